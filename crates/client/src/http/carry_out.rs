//! Requests of the wire protocol, carried out over HTTP: what makes one [`Cache`](crate::Cache) of
//! two transports.

use std::time::Duration;

use bytes::Bytes;
use futures_util::future::join_all;
use verax_api::{FailureKind, Problem};
use verax_core::EntityTag;
use verax_core::store::{Rate, RateLimitOutcome};
use verax_wire::{
    BatchReplies, Details, GetFlags, Lifetime, ListedEntries, ListedEntry, PermitFlags, Put, Reply,
    Request, Tags, Value,
};

use crate::error::ClientError;
use crate::http::answer::ReadResult;
use crate::http::entries::Namespace;
use crate::http::permits::{PermitOptions, PermitOutcome};
use crate::lookup::{Lookup, ReadOptions};
use crate::options::{LifetimeOptions, LockOptions, LockOutcome, PutCondition, PutOptions};
use crate::wire::link::RawReply;

/// How many operations of a batch are sent at the same time.
const BATCH_CONCURRENCY: usize = 16;

fn milliseconds(time: Duration) -> u64 {
    u64::try_from(time.as_millis()).unwrap_or(u64::MAX)
}

fn of_seconds(seconds: f64) -> u64 {
    milliseconds(Duration::try_from_secs_f64(seconds).unwrap_or_default())
}

fn lifetime_options(lifetime: Option<Lifetime>) -> LifetimeOptions {
    let Some(given) = lifetime else { return LifetimeOptions::default() };
    let part = |time: u64| (time != Lifetime::ABSENT).then(|| Duration::from_millis(time));
    LifetimeOptions {
        max_age: part(given.max_age),
        stale_while_revalidate: part(given.stale_while_revalidate),
        stale_if_error: part(given.stale_if_error),
    }
}

fn put_options(put: &Put<'_>) -> PutOptions {
    let lifetime = lifetime_options(put.lifetime);
    PutOptions {
        media_type: Some(put.media_type.to_owned()),
        max_age: lifetime.max_age,
        stale_while_revalidate: lifetime.stale_while_revalidate,
        stale_if_error: lifetime.stale_if_error,
        tags: put.tags.iter().map(str::to_owned).collect(),
        condition: match put.condition {
            verax_wire::PutCondition::Always => PutCondition::Always,
            verax_wire::PutCondition::IfAbsent => PutCondition::IfAbsent,
            verax_wire::PutCondition::IfMatches(tag) => {
                PutCondition::IfMatches(format!("\"{tag:032x}\""))
            }
            verax_wire::PutCondition::IfRevision(revision) => PutCondition::IfRevision(revision),
        },
    }
}

/// A value as the wire protocol replies with it.
fn value(read: &ReadResult, details: bool) -> RawReply {
    let tag = read.entity_tag.as_deref().unwrap_or_default().trim_matches('"');
    let tags: Vec<&str> = read.tags.iter().map(String::as_str).collect();
    RawReply::of(&Reply::Value(Value {
        source: read.source,
        due: false,
        time_left: read.seconds_left.unwrap_or(0).saturating_mul(1_000),
        details: details.then(|| Details {
            age: milliseconds(read.age),
            entity_tag: u128::from_str_radix(tag, 16).unwrap_or_default(),
            media_type: &read.media_type,
            tags: Tags::of(&tags),
        }),
        revision: read.revision,
        value: &read.value,
    }))
}

/// A negative entry.
fn no_value() -> RawReply {
    RawReply::of(&Reply::Failed {
        code: FailureKind::NoValue.code(),
        unchanged: false,
        request_id: 0,
        retry_after: None,
        detail: "the origin has no value for the key",
    })
}

fn done(was_there: bool) -> RawReply {
    RawReply::of(&Reply::done(was_there))
}

impl Namespace {
    /// Carries out a request about this namespace.
    ///
    /// # Errors
    /// [`ClientError`]; [`ClientError::Invalid`] for what only the wire protocol can do.
    pub(crate) async fn carry_out(&self, request: Request<'_>) -> Result<RawReply, ClientError> {
        let Request::Batch(operations) = request else {
            return self.carry_out_one(request).await;
        };
        let operations: Vec<Request<'_>> = operations.iter().collect();
        let mut raw = Vec::with_capacity(operations.len());
        for together in operations.chunks(BATCH_CONCURRENCY) {
            let sent = together.iter().map(|operation| self.carry_out_one(*operation));
            for outcome in join_all(sent).await {
                raw.push(match outcome {
                    Err(ClientError::Refused(problem)) => RawReply::refused(&problem),
                    // It fails in its place, such as a key that no URL can have.
                    Err(ClientError::Invalid(why)) => {
                        RawReply::refused(&Problem::of(FailureKind::Invalid, why))
                    }
                    outcome => outcome?,
                });
            }
        }
        let replies: Vec<Reply<'_>> =
            raw.iter().map(RawReply::decoded).collect::<Result<_, _>>()?;
        Ok(RawReply::of(&Reply::Batch(BatchReplies::of(&replies))))
    }

    async fn carry_out_one(&self, request: Request<'_>) -> Result<RawReply, ClientError> {
        match request {
            Request::Get { key, flags } => self.carry_out_get(key, flags).await,
            Request::Put(put) => {
                let value = Bytes::copy_from_slice(put.value);
                self.put(put.key, value, put_options(&put)).await.map(done)
            }
            Request::Delete { key } => self.delete(key).await.map(done),
            Request::SetLifetime { key, lifetime } => {
                match self.set_lifetime(key, lifetime_options(lifetime)).await? {
                    true => Ok(done(true)),
                    false => Ok(RawReply::of(&Reply::Miss)),
                }
            }
            Request::List { limit, cursor, prefix } => {
                let cursor = Some(cursor).filter(|cursor| !cursor.is_empty());
                self.carry_out_list(prefix, cursor, limit).await
            }
            Request::InvalidateTag { tag } => self.invalidate_tag(tag).await.map(|()| done(true)),
            Request::ReportDamage { entity_tag, reason, key } => {
                let tag = EntityTag::from_number(entity_tag).to_string();
                self.report_damage(key, &tag, reason).await.map(done)
            }
            Request::Clear { prefix } => {
                let entries = match prefix {
                    Some(prefix) => self.clear_prefix(prefix).await?,
                    None => self.clear().await?,
                };
                Ok(RawReply::of(&Reply::Cleared { entries }))
            }
            Request::Add { key, amount, lifetime } => {
                let counter = self.add(key, amount, lifetime_options(lifetime)).await?;
                let (value, created) = (counter.value, counter.created);
                Ok(RawReply::of(&Reply::Counted { created, value }))
            }
            Request::AcquireRate { key, amount, count, period, burst } => {
                let rate = Rate::new(count, Duration::from_millis(period), burst)
                    .map_err(|error| ClientError::Invalid(error.to_string()))?;
                Ok(RawReply::of(&match self.acquire_rate(key, amount, rate).await? {
                    RateLimitOutcome::Allowed { left } => Reply::RateAcquired { left },
                    RateLimitOutcome::Later { retry_after } => {
                        Reply::Later { retry_after: milliseconds(retry_after) }
                    }
                }))
            }
            Request::AcquireLock { .. }
            | Request::RenewLock { .. }
            | Request::ReleaseLock { .. }
            | Request::PeekLock { .. } => self.carry_out_lock(request).await,
            Request::AcquirePermit { flags, lease, wait, owner, key } => {
                let times = (Duration::from_millis(lease), Duration::from_millis(wait));
                self.carry_out_permit(key, flags, times, owner).await
            }
            Request::AwaitRefill { lease, wait, owner } => {
                let options = PermitOptions {
                    owner: Some(owner.to_owned()).filter(|owner| !owner.is_empty()),
                    lease: Duration::from_millis(lease),
                    wait: Duration::from_millis(wait),
                    ..PermitOptions::default()
                };
                Ok(match self.await_refill(&options).await? {
                    Some(grant) => RawReply::of(&Reply::Wanted {
                        permit: grant.permit,
                        ends_in: of_seconds(grant.ends_in_seconds),
                        key: &grant.key,
                    }),
                    None => RawReply::of(&Reply::Miss),
                })
            }
            Request::PutWithPermit { permit, put } => {
                let value = Bytes::copy_from_slice(put.value);
                self.put_with_permit(put.key, value, permit, put_options(&put)).await?;
                Ok(done(false))
            }
            Request::ReleasePermit { key, permit, fail_all } => {
                self.release_permit(key, permit, fail_all).await.map(|()| done(true))
            }
            Request::Hello(_)
            | Request::Open { .. }
            | Request::Ping
            | Request::Goodbye
            | Request::Trace { .. }
            | Request::Watch
            | Request::Batch(_) => {
                Err(ClientError::Invalid("only the wire protocol can do this".into()))
            }
        }
    }

    async fn carry_out_get(&self, key: &str, flags: GetFlags) -> Result<RawReply, ClientError> {
        let options = ReadOptions {
            refresh: flags.refresh,
            only_if_cached: flags.only_if_cached,
            stale_if_error: flags.stale_if_error,
            ..ReadOptions::default()
        };
        Ok(match self.look_up(key, options).await? {
            Lookup::Found(read) => value(&read, flags.details),
            Lookup::Miss => RawReply::of(&Reply::Miss),
            Lookup::NoValue => no_value(),
        })
    }

    async fn carry_out_list(
        &self,
        prefix: &str,
        cursor: Option<&str>,
        limit: u16,
    ) -> Result<RawReply, ClientError> {
        let page = self.list(prefix, cursor, limit.into()).await?;
        let entries: Vec<ListedEntry<'_>> = page
            .items
            .iter()
            .map(|item| ListedEntry {
                key: &item.key,
                value_bytes: item.value_bytes,
                age: of_seconds(item.age_seconds),
                time_left: (item.time_left_seconds * 1_000.0) as i64,
                media_type: &item.media_type,
            })
            .collect();
        let (cursor, entries) = (page.cursor.as_deref().unwrap_or(""), ListedEntries::of(&entries));
        Ok(RawReply::of(&Reply::Page { cursor, entries }))
    }

    async fn carry_out_lock(&self, request: Request<'_>) -> Result<RawReply, ClientError> {
        let granted = |lease: verax_api::LockLease| {
            let (fencing_token, ends_in) = (lease.fencing_token, of_seconds(lease.ends_in_seconds));
            RawReply::of(&Reply::Granted { fencing_token, ends_in })
        };
        let held = |holder: &verax_api::LockHolder| {
            RawReply::of(&Reply::Held {
                fencing_token: holder.fencing_token,
                ends_in: of_seconds(holder.ends_in_seconds),
                held_for: of_seconds(holder.held_seconds),
                queued: 0,
                owner: &holder.owner,
            })
        };
        match request {
            Request::AcquireLock { ends_with_connection: true, .. } => Err(ClientError::Invalid(
                "a lease that ends with its connection needs the wire protocol".into(),
            )),
            Request::AcquireLock { lease, wait, owner, name, .. } => {
                let options = LockOptions {
                    owner: Some(owner.to_owned()).filter(|owner| !owner.is_empty()),
                    lease: Duration::from_millis(lease),
                    wait: Duration::from_millis(wait),
                    ends_with_connection: false,
                };
                Ok(match self.acquire_lock(name, &options).await? {
                    LockOutcome::Acquired(lease) => granted(lease),
                    LockOutcome::HeldByOther(holder) => held(&holder),
                })
            }
            Request::RenewLock { fencing_token, lease, name } => {
                let lease = Duration::from_millis(lease);
                self.renew_lock(name, fencing_token, lease).await.map(granted)
            }
            Request::ReleaseLock { fencing_token, name } => {
                self.release_lock(name, fencing_token).await.map(|()| done(true))
            }
            Request::PeekLock { name } => Ok(match self.lock(name).await?.holder {
                Some(holder) => held(&holder),
                None => RawReply::of(&Reply::Miss),
            }),
            _ => Err(ClientError::Invalid("this request is not about a lock".into())),
        }
    }

    async fn carry_out_permit(
        &self,
        key: &str,
        flags: PermitFlags,
        (lease, wait): (Duration, Duration),
        owner: &str,
    ) -> Result<RawReply, ClientError> {
        let options = PermitOptions {
            owner: Some(owner.to_owned()).filter(|owner| !owner.is_empty()),
            lease,
            wait,
            stale: flags.stale,
            refresh: flags.refresh,
        };
        Ok(match self.acquire_permit(key, &options).await? {
            PermitOutcome::Value(read) => value(&read, flags.details),
            PermitOutcome::NoValue => no_value(),
            PermitOutcome::Permit(grant) => RawReply::of(&Reply::Permit {
                permit: grant.permit,
                ends_in: of_seconds(grant.ends_in_seconds),
            }),
            PermitOutcome::Later(time) => {
                RawReply::of(&Reply::Later { retry_after: milliseconds(time) })
            }
        })
    }
}
