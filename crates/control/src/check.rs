//! Checks of stored values, and the removal of damaged ones.

use verax_api::{CheckRequest, CheckStep, DamagedValue};
use verax_core::Name;
use verax_core::store::Position;

use crate::access::Caller;
use crate::control::Control;
use crate::error::ControlError;

impl Control {
    /// Checks some of a namespace's values, from the cursor of the previous step on, and removes
    /// the damaged ones if that is wanted.
    ///
    /// # Errors
    /// [`ControlError`]: a scope, the namespace, or the cursor.
    pub async fn check_values(
        &self,
        caller: &Caller,
        (tenant, namespace): (&Name, &Name),
        request: &CheckRequest,
    ) -> Result<CheckStep, ControlError> {
        let reader = self.open_reader(caller, tenant, namespace)?;
        let deleter = match request.remove {
            true => Some(self.open_deleter(caller, tenant, namespace)?),
            false => None,
        };
        let cursor = request.cursor.as_deref().filter(|cursor| !cursor.is_empty());
        let from = cursor.map_or(Ok(Position::default()), str::parse);
        let from = from.map_err(ControlError::invalid)?;
        let step = reader.check(&request.prefix, from).await?;
        let damaged: Vec<DamagedValue> = step
            .damaged
            .iter()
            .map(|entry| DamagedValue {
                key: entry.key.to_string(),
                reason: entry.damage.reason.clone(),
                line: entry.damage.line,
                column: entry.damage.column,
                entity_tag: entry.entity_tag.to_string(),
                removed: deleter.as_ref().is_some_and(|deleter| deleter.remove_damaged(entry)),
            })
            .collect();
        let removed = damaged.iter().filter(|value| value.removed).count();
        if removed > 0 {
            let detail = serde_json::json!({ "entries": removed });
            let subject = reader.path();
            self.note_for(caller, Some(tenant), "entries.remove-damaged", subject, detail).await;
        }
        let cursor = step.next.map(|next| next.to_string());
        Ok(CheckStep { checked: step.checked, damaged, cursor })
    }
}
