//! Reports of values that cannot be decoded, over HTTP.

use verax_api::{DamageOutcome, DamageReports, ReportDamage};

use crate::error::ClientError;
use crate::http::entries::Namespace;

impl Namespace {
    /// Reports that the value with this entity tag cannot be decoded, which removes its entry;
    /// returns whether it was removed.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn report_damage(
        &self,
        key: &str,
        entity_tag: &str,
        reason: &str,
    ) -> Result<bool, ClientError> {
        let [key, entity_tag, reason] = [key, entity_tag, reason].map(str::to_owned);
        let report = ReportDamage { key, entity_tag, reason };
        let url = self.below(&["damage-reports"]);
        Ok(self.client().post::<DamageOutcome>(url, &report).await?.removed)
    }

    /// The latest reports, newest first.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn damage_reports(&self) -> Result<DamageReports, ClientError> {
        self.client().get(self.below(&["damage-reports"])).await
    }
}
