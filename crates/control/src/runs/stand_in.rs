//! The faults of the demo's stand-in origin, which administrators set.

use verax_api::{StandIn, StandInChange};
use verax_core::access::Scope;

use crate::access::Caller;
use crate::control::Control;
use crate::error::{Conflict, ControlError};
use crate::invalid::InvalidInput;

impl Control {
    /// The faults of the stand-in.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, or that there is no stand-in.
    pub fn stand_in(&self, caller: &Caller) -> Result<StandIn, ControlError> {
        caller.needs(Scope::Admin)?;
        Ok(self.stand_in_handle().ok_or(Conflict::NoStandIn)?.faults())
    }

    /// Changes faults of the stand-in, and marks that on the time line of the active load run.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, that there is no stand-in, or a fault out of range.
    pub fn change_stand_in(
        &self,
        caller: &Caller,
        change: &StandInChange,
    ) -> Result<StandIn, ControlError> {
        caller.needs(Scope::Admin)?;
        let handle = self.stand_in_handle().ok_or(Conflict::NoStandIn)?;
        let faults = handle.change(change).map_err(InvalidInput::StandIn)?;
        self.mark_change_everywhere(text_of(change));
        Ok(faults)
    }
}

/// What a change does, for people.
fn text_of(change: &StandInChange) -> String {
    let latency = change.extra_latency_ms.map(|ms| format!("+{ms} ms"));
    let limit = change.concurrency_limit.map(|limit| format!("at most {limit} together"));
    let errors = change.error_rate.map(|rate| format!("{:.0} % errors", rate * 100.0));
    let outage = change.outage.map(|on| if on { "outage" } else { "no outage" }.to_owned());
    let parts: Vec<String> = [latency, limit, errors, outage].into_iter().flatten().collect();
    format!("stand-in: {}", parts.join(", "))
}
