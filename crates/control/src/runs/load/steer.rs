//! What people do to the active load run, and around it.

use std::sync::Arc;

use verax_api::{ChangeLoad, LoadMarkKind, LoadRun};
use verax_core::load::{ChangedLevel, Timeline};

use super::active::Active;
use crate::access::Caller;
use crate::control::Control;
use crate::error::{Conflict, ControlError};
use crate::invalid::InvalidInput;
use crate::registry::Registered;
use crate::runs::table::RunOf;

/// The longest text of a mark, in characters.
pub const MAX_MARK_CHARACTERS: usize = 80;

impl Control {
    /// The active load run of this number that a caller may steer.
    fn active_load(&self, caller: &Caller, id: u64) -> Result<Active, ControlError> {
        let run = self.run::<LoadRun>(caller, id)?;
        let active = self.active_load.get().filter(|active| Arc::ptr_eq(&active.run, &run));
        active.ok_or_else(|| Conflict::LoadRunEnded.into())
    }

    /// Changes the load of an active run, or pauses it.
    ///
    /// # Errors
    /// [`ControlError`]: the run, that it has ended, or a level out of range.
    pub fn change_load(
        &self,
        caller: &Caller,
        id: u64,
        change: ChangeLoad,
    ) -> Result<LoadRun, ControlError> {
        let active = self.active_load(caller, id)?;
        if let Some(level) = change.level {
            active.profile.arrivals.check_level(level).map_err(ControlError::invalid)?;
            let elapsed = active.began.map_or(std::time::Duration::ZERO, |began| began.elapsed());
            let moment = Timeline::of(&active.profile).at(elapsed);
            let moment = moment.ok_or(Conflict::LoadRunEnded)?;
            let (round, stage) = (moment.round, moment.stage.stage);
            let set = ChangedLevel { round, stage, level };
            active.steering.send_modify(|steering| steering.level = Some(set));
            let unit = active.profile.arrivals.unit();
            active.mark(LoadMarkKind::Load, unit.with(level));
        }
        if let Some(is_paused) = change.paused {
            active.steering.send_modify(|steering| steering.is_paused = is_paused);
            active.run.change(|run| run.paused = is_paused);
            let text = if is_paused { "paused" } else { "resumed" };
            active.mark(LoadMarkKind::Load, text.to_owned());
        }
        Ok(active.run.now())
    }

    /// Marks a moment of an active run.
    ///
    /// # Errors
    /// [`ControlError`]: the run, that it has ended, or an empty or long text.
    pub fn mark_load(&self, caller: &Caller, id: u64, text: &str) -> Result<LoadRun, ControlError> {
        let active = self.active_load(caller, id)?;
        let characters = text.chars().count();
        if text.trim().is_empty() || characters > MAX_MARK_CHARACTERS {
            return Err(InvalidInput::Mark { characters, max: MAX_MARK_CHARACTERS }.into());
        }
        active.mark(LoadMarkKind::Note, text.trim().to_owned());
        Ok(active.run.now())
    }

    /// Marks what was done to a namespace on the time line of the load run that reads it.
    pub(crate) fn mark_change(&self, namespace: &Registered, text: impl Into<String>) {
        let Some(active) = self.active_load.get() else { return };
        let is_read = match &active.run.of {
            RunOf::Namespace(read) => read.id() == namespace.id(),
            RunOf::Service => false,
        };
        if is_read {
            active.mark(LoadMarkKind::Change, text.into());
        }
    }

    /// Marks what was done to something that any run reads.
    pub fn mark_change_everywhere(&self, text: impl Into<String>) {
        if let Some(active) = self.active_load.get() {
            active.mark(LoadMarkKind::Change, text.into());
        }
    }
}
