//! Starts the control plane: its first load, its background tasks, its first token.

use std::sync::Arc;

use verax_engine::{Engine, Work};
use verax_records::{Actor, NewToken, Records};

use crate::access::{hash_of, new_secret};
use crate::control::Control;
use crate::epoch::keep_epoch;
use crate::error::{Conflict, ControlError};
use crate::live::sample_every_second;
use crate::membership::membership_loop;
use crate::options::ControlOptions;
use crate::records_sync::sync_loop;
use crate::schedules::{carry_out_schedules, follow_intervals};
use crate::token_times::follow_token_times;
use crate::usage::keep_usage;

impl Control {
    /// Loads everything from the records or, while MariaDB is away, from the snapshot of an earlier
    /// start. The [`tasks`](Self::tasks) must run beside it.
    ///
    /// # Errors
    /// [`ControlError::RecordsUnavailable`] if neither can be read.
    pub async fn start(
        engine: Arc<Engine>,
        records: Records,
        options: ControlOptions,
    ) -> Result<Arc<Self>, ControlError> {
        let control = Arc::new(Self::new(engine, records, options));
        control.load_or_snapshot().await?;
        Ok(control)
    }

    /// The control plane's background work, one task for each kind.
    pub fn tasks() -> [fn(Arc<Self>) -> Work; 8] {
        [
            |control| Box::pin(sample_every_second(control)),
            |control| Box::pin(sync_loop(control)),
            |control| Box::pin(membership_loop(control)),
            |control| Box::pin(keep_epoch(control)),
            |control| Box::pin(follow_token_times(control)),
            |control| Box::pin(keep_usage(control)),
            |control| Box::pin(follow_intervals(control)),
            |control| Box::pin(carry_out_schedules(control)),
        ]
    }

    /// Returns the administrator token: `known` if it is still valid. The very first one is created
    /// here, for the caller to keep where only its owner can read it. No other is ever created
    /// automatically: damaging a file must not make anyone an administrator.
    ///
    /// # Errors
    /// [`ControlError::Conflict`] if `known` is not valid, or is missing although there are
    /// administrators; [`ControlError::RecordsUnavailable`].
    pub async fn administrator_token(
        self: &Arc<Self>,
        known: Option<&str>,
    ) -> Result<String, ControlError> {
        if let Some(secret) = known {
            return match self.tokens.caller(secret) {
                Ok(caller) if caller.is_admin() => Ok(secret.to_owned()),
                _ => Err(Conflict::InvalidAdministratorToken.into()),
            };
        }
        if self.tokens.any_admin() {
            return Err(Conflict::MissingAdministratorToken.into());
        }
        self.new_administrator_token().await
    }

    /// Creates an administrator token on request of a user who can write to the data directory.
    ///
    /// # Errors
    /// [`ControlError::RecordsUnavailable`].
    pub async fn new_administrator_token(self: &Arc<Self>) -> Result<String, ControlError> {
        let secret = new_secret();
        let hash = hash_of(&secret);
        self.administer(async move |control| {
            let (actor, now) = (Actor::new("Verax at its start"), control.engine.now());
            let new = NewToken::new(hash, "admin", "administrator");
            let created = control.records.create_token(&new, &actor, now).await?;
            control.tokens.add(&control.follow_change(created));
            Ok(())
        })
        .await?;
        Ok(secret)
    }
}
