//! Starting the control plane: its first load, its background work, its first token.

use std::sync::Arc;

use verax_engine::{Engine, Work};
use verax_records::{Actor, Records};

use crate::access::{hash_of, new_secret};
use crate::control::Control;
use crate::epoch::keep_epoch;
use crate::error::ControlError;
use crate::live::sample_every_second;
use crate::membership::membership_loop;
use crate::options::ControlOptions;
use crate::records_sync::sync_loop;

impl Control {
    /// Loads everything from the records. While MariaDB is away, what serving needs comes from the
    /// snapshot that an earlier start left, if there is one. The [`tasks`](Self::tasks) are to be
    /// run beside it.
    ///
    /// # Errors
    /// [`ControlError::RecordsUnavailable`] when neither can be read.
    pub async fn start(
        engine: Arc<Engine>,
        records: Records,
        options: ControlOptions,
    ) -> Result<Arc<Self>, ControlError> {
        let control = Arc::new(Self::new(engine, records, options));
        control.load_or_snapshot().await?;
        Ok(control)
    }

    /// The work that the control plane needs done for as long as it is used, each by a task of its
    /// own.
    pub fn tasks() -> [fn(Arc<Self>) -> Work; 4] {
        [
            |control| Box::pin(sample_every_second(control)),
            |control| Box::pin(sync_loop(control)),
            |control| Box::pin(membership_loop(control)),
            |control| Box::pin(keep_epoch(control)),
        ]
    }

    /// Makes sure that the administrator token is known: `known` when it still opens everything.
    /// The first one is created here, for the caller to keep where only its owner can read it. No
    /// further one is ever created by itself: who can damage a file must not become administrator
    /// by it.
    ///
    /// # Errors
    /// [`ControlError::Conflict`] when `known` opens nothing, or is missing although there are
    /// administrators; [`ControlError::RecordsUnavailable`].
    pub async fn administrator_token(
        self: &Arc<Self>,
        known: Option<&str>,
    ) -> Result<String, ControlError> {
        if let Some(secret) = known {
            return match self.tokens.caller(secret) {
                Ok(caller) if caller.is_admin() => Ok(secret.to_owned()),
                _ => Err(ControlError::Conflict("it holds no valid administrator token".into())),
            };
        }
        if self.tokens.any_admin() {
            return Err(ControlError::Conflict(
                "it is missing, although an administrator token was created before".into(),
            ));
        }
        self.new_administrator_token().await
    }

    /// Creates an administrator token, for somebody who may write to the data directory and asks
    /// for it.
    ///
    /// # Errors
    /// [`ControlError::RecordsUnavailable`].
    pub async fn new_administrator_token(self: &Arc<Self>) -> Result<String, ControlError> {
        let secret = new_secret();
        let hash = hash_of(&secret);
        self.administer(async move |control| {
            let (actor, now) = (Actor::new("Verax at its start"), control.engine.now());
            let created =
                control.records.create_token(hash, "admin", "administrator", &actor, now).await?;
            control.tokens.add(&control.follow_change(created));
            Ok(())
        })
        .await?;
        Ok(secret)
    }
}
