//! Writing what tenants define: warm plans, load profiles and schedules.

use serde::Serialize;
use verax_records::{DefinitionPath, DefinitionRecord};

use crate::access::Caller;
use crate::control::Control;
use crate::error::ControlError;

impl Control {
    /// Creates or replaces a definition in a caller's name.
    pub(crate) async fn write_definition(
        &self,
        caller: &Caller,
        path: &DefinitionPath,
        content: &impl Serialize,
    ) -> Result<DefinitionRecord, ControlError> {
        let content = serde_json::to_value(content).unwrap_or_default();
        let (actor, now) = (caller.actor(), self.engine.now());
        let put = self.records.put_definition(path, &content, &actor, now).await?;
        Ok(self.follow_change(put))
    }

    /// Deletes a definition in a caller's name.
    pub(crate) async fn remove_definition(
        &self,
        caller: &Caller,
        path: &DefinitionPath,
    ) -> Result<(), ControlError> {
        let (actor, now) = (caller.actor(), self.engine.now());
        let deleted = self.records.delete_definition(path, &actor, now).await?;
        self.follow_change(deleted);
        Ok(())
    }
}
