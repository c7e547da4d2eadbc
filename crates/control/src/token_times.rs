//! Ends tokens at their expiry, and writes down when tokens were last used.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use verax_core::Timestamp;

use crate::control::Control;
use crate::membership::Role;

/// How often expiries are compared with the clock.
const LOOK_EVERY: Duration = Duration::from_millis(250);

/// After how many looks uses are noted, which is the precision of the last use.
const LOOKS_PER_NOTE: u32 = 40;

/// After how many looks they are written to the records.
const LOOKS_PER_WRITE: u32 = 240;

/// Ends tokens within a quarter of a second of their expiry, with everything begun under them.
pub(crate) async fn follow_token_times(control: Arc<Control>) {
    let mut unwritten: BTreeMap<u64, Timestamp> = BTreeMap::new();
    let mut looks = 0u32;
    loop {
        tokio::time::sleep(LOOK_EVERY).await;
        looks = looks.wrapping_add(1);
        let now = control.engine.now();
        control.tokens.expired(now).into_iter().for_each(|id| control.end_token(id));
        if looks.is_multiple_of(LOOKS_PER_NOTE) {
            unwritten.extend(control.tokens.take_uses(now).into_iter().map(|id| (id, now)));
        }
        let writes = control.role() == Role::Active && control.records_available();
        if looks.is_multiple_of(LOOKS_PER_WRITE) && writes && !unwritten.is_empty() {
            let uses: Vec<(u64, Timestamp)> = std::mem::take(&mut unwritten).into_iter().collect();
            if let Err(error) = control.records.note_uses(&uses).await {
                tracing::debug!(%error, "the last uses of tokens were not written down");
                // The next ones supersede them.
                unwritten.extend(uses);
            }
        }
    }
}
