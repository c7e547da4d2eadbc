//! Lifetimes, batches, tags, counters and allowances over HTTP.

use std::time::Duration;

use reqwest::Method;
use reqwest::header::CACHE_CONTROL;
use serde::Deserialize;
use verax_api::{
    AddRequest, Allowance, BatchAnswer, BatchOperation, BatchRequest, BatchResult, Counter,
    TakeRequest,
};

use crate::entries::{LifetimeOptions, Namespace};
use crate::error::ClientError;

/// How fast an allowance comes back, and how much it holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Rate {
    /// How much comes back in each period.
    pub count: u64,
    /// The period.
    pub period: Duration,
    /// How much may be taken at once.
    pub burst: u64,
}

/// What became of an attempt to take from an allowance.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Taken {
    /// It was taken; this much may still be taken at once.
    Allowed {
        /// How much is left.
        left: u64,
    },
    /// Nothing was taken.
    Later {
        /// The time after which it is worth asking again.
        retry_after: Duration,
    },
}

impl Namespace {
    /// Gives an entry another lifetime, counted from now; returns whether there is such an entry.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn set_lifetime(
        &self,
        key: &str,
        lifetime: LifetimeOptions,
    ) -> Result<bool, ClientError> {
        let mut request = self.client().request(Method::PATCH, self.of_key("entries", key)?);
        if let Some(field) = lifetime.field() {
            request = request.header(CACHE_CONTROL, field);
        }
        match self.client().send(request).await {
            Ok(_) => Ok(true),
            Err(error) if error.problem() == Some("miss") => Ok(false),
            Err(error) => Err(error),
        }
    }

    /// Carries out several operations; their results come in the same order.
    ///
    /// # Errors
    /// [`ClientError`] when the batch as a whole is refused.
    pub async fn batch(
        &self,
        operations: Vec<BatchOperation>,
    ) -> Result<Vec<BatchResult>, ClientError> {
        let request = BatchRequest { operations };
        Ok(self.client().post::<BatchAnswer>(self.below(&["batch"]), &request).await?.results)
    }

    /// Ends every entry that carries a tag.
    ///
    /// # Errors
    /// [`ClientError`].
    pub async fn invalidate_tag(&self, tag: &str) -> Result<(), ClientError> {
        self.client().delete(self.of_key("tags", tag)?).await
    }

    /// Adds to a counter; a missing one starts at 0 with `lifetime`.
    ///
    /// # Errors
    /// [`ClientError`]; what is no number is the problem `wrong-kind`.
    pub async fn add(
        &self,
        key: &str,
        amount: i64,
        lifetime: LifetimeOptions,
    ) -> Result<Counter, ClientError> {
        let request = AddRequest { add: amount, cache_control: lifetime.field() };
        self.client().post(self.of_key("counters", key)?, &request).await
    }

    /// Takes from an allowance, if there is enough.
    ///
    /// # Errors
    /// [`ClientError`]; a rate that cannot be, or more than the burst, is the problem `invalid`.
    pub async fn take(&self, key: &str, amount: u64, rate: Rate) -> Result<Taken, ClientError> {
        #[derive(Deserialize)]
        struct Spent {
            retry_after_seconds: f64,
        }
        let request = TakeRequest {
            take: amount,
            rate: rate.count,
            period_seconds: rate.period.as_secs_f64(),
            burst: Some(rate.burst),
        };
        let taken = self.client().post(self.of_key("allowances", key)?, &request).await;
        match taken {
            Ok(Allowance { left }) => Ok(Taken::Allowed { left }),
            Err(ClientError::Refused(problem)) if problem.name() == "spent" => {
                let spent: Option<Spent> =
                    serde_json::from_value(serde_json::Value::Object(problem.more)).ok();
                let seconds = spent.map_or(1.0, |spent| spent.retry_after_seconds);
                let retry_after =
                    Duration::try_from_secs_f64(seconds).unwrap_or(Duration::from_secs(1));
                Ok(Taken::Later { retry_after })
            }
            Err(error) => Err(error),
        }
    }
}
