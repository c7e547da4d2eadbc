//! The lanes, as a generator reads them.

use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use verax_client::{
    Cache, CacheOptions, CachedFrom, Client, ClientError, ClientOptions, Namespace, PutOptions,
    Raw, Refilled,
};
use verax_core::load::{
    Action, ErrorKind, LaneTarget, MAX_VALUE_BYTES, OriginTarget, Outcome, ReadKind, RefillBy,
    Transport,
};
use verax_core::source::Source;
use verax_core::{Key, KeyPattern};
use verax_origin::{Credentials, Origin, OriginError, OriginWrite};

use crate::message::ServiceAddress;

/// The timeout of a request.
const TIMEOUT: Duration = Duration::from_secs(30);

/// The media type of made-up values.
const MEDIA_TYPE: &str = "application/octet-stream";

/// An origin that a lane reads.
#[derive(Debug, Clone)]
pub(super) struct OriginReader {
    origin: Arc<Origin>,
    key_pattern: KeyPattern,
}

/// A lane.
#[derive(Debug, Clone)]
pub(super) enum LaneReader {
    /// The service reads through, over HTTP.
    Http(Namespace),
    /// The service reads through, over the wire protocol.
    Wire(Cache),
    /// The client refills under a permit.
    Permit(Cache, OriginReader),
    /// The origin itself.
    Origin(OriginReader),
}

/// Why a request failed. Its message has no key, so that equal failures are counted together.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Failed {
    pub(super) kind: ErrorKind,
    pub(super) message: String,
}

impl From<ClientError> for Failed {
    fn from(error: ClientError) -> Self {
        let kind = match &error {
            ClientError::TimedOut { .. } => ErrorKind::Timeout,
            ClientError::Unreachable { .. } => ErrorKind::Connection,
            ClientError::Refused(problem) if matches!(problem.status, 423 | 429 | 503) => {
                ErrorKind::Refused
            }
            _ => ErrorKind::Other,
        };
        Self { kind, message: error.to_string() }
    }
}

impl From<OriginError> for Failed {
    fn from(error: OriginError) -> Self {
        let kind = match &error {
            OriginError::Timeout { .. } => ErrorKind::Timeout,
            OriginError::Connect { .. } => ErrorKind::Connection,
            OriginError::Busy
            | OriginError::CircuitOpen { .. }
            | OriginError::Status { status: 429 | 503, .. } => ErrorKind::Refused,
            OriginError::NoValue { .. } => ErrorKind::NoValue,
            _ => ErrorKind::Other,
        };
        Self { kind, message: error.plain() }
    }
}

fn no_value() -> Failed {
    let message = "there is no value for this key".to_owned();
    Failed { kind: ErrorKind::NoValue, message }
}

fn read_kind(source: Source) -> ReadKind {
    match source {
        Source::Hit | Source::Stale | Source::StaleOnError => ReadKind::Hit,
        Source::Origin => ReadKind::Origin,
        Source::Joined => ReadKind::Joined,
    }
}

impl OriginReader {
    fn new(target: &OriginTarget, credentials: &Arc<Credentials>) -> Result<Self, String> {
        let origin = Origin::new(&target.settings, credentials).map_err(|e| e.to_string())?;
        let key_pattern = KeyPattern::parse(&target.key_pattern).map_err(|e| e.to_string())?;
        Ok(Self { origin: Arc::new(origin), key_pattern })
    }

    fn values<'a>(&'a self, key: &'a Key) -> Result<Vec<(&'a str, &'a str)>, Failed> {
        self.key_pattern.values_of(key.as_str()).ok_or_else(|| Failed {
            kind: ErrorKind::Other,
            message: "the key does not match the pattern of the origin".into(),
        })
    }

    async fn read(&self, key: &Key) -> Result<Bytes, Failed> {
        Ok(self.origin.read(&self.values(key)?, None).await?.value)
    }

    async fn put(&self, key: &Key, value: &Bytes) -> Result<(), Failed> {
        let write = OriginWrite::Put { value, media_type: MEDIA_TYPE };
        Ok(self.origin.write_guarded(&self.values(key)?, write, None).await?)
    }
}

impl LaneReader {
    /// Opens a lane.
    ///
    /// # Errors
    /// What is wrong with its target.
    pub(super) fn open(target: &LaneTarget, service: &ServiceAddress) -> Result<Self, String> {
        let credentials = Arc::new(Credentials::new(service.credentials_directory.as_deref()));
        let origin = |target: &OriginTarget| OriginReader::new(target, &credentials);
        let (tenant, namespace, through, refill, target) = match target {
            LaneTarget::Origin(target) => return Ok(Self::Origin(origin(target)?)),
            LaneTarget::Cache { tenant, namespace, through, refill, origin } => {
                (tenant, namespace, *through, *refill, origin)
            }
        };
        let client = Client::new(ClientOptions {
            url: service.url.clone(),
            wire: service.wire.clone(),
            pinned: service.certificate.clone(),
            ca: service.ca.clone(),
            token: Some(service.token.clone().into()),
            timeout: TIMEOUT,
            ..ClientOptions::default()
        });
        let client = client.map_err(|e| e.to_string())?;
        let options = CacheOptions { timeout: TIMEOUT, bound: TIMEOUT, ..CacheOptions::default() };
        let cache = || match through {
            Transport::Wire => client.cache(tenant, namespace, options.clone()),
            Transport::Http => client.cache_over_http(tenant, namespace, options.clone()),
        };
        match (refill, through, target) {
            (RefillBy::Permit, _, Some(target)) => {
                Ok(Self::Permit(cache().map_err(|e| e.to_string())?, origin(target)?))
            }
            (RefillBy::Permit, _, None) => Err("the lane has no origin to refill from".into()),
            (RefillBy::ReadThrough, Transport::Wire, _) => {
                cache().map(Self::Wire).map_err(|e| e.to_string())
            }
            (RefillBy::ReadThrough, Transport::Http, _) => {
                client.namespace(tenant, namespace).map(Self::Http).map_err(|e| e.to_string())
            }
        }
    }

    /// Carries a request out; `None` if the lane has nothing to do for it.
    pub(super) async fn carry_out(
        &self,
        action: Action,
        key: &Key,
    ) -> Option<Result<Outcome, Failed>> {
        Some(match action {
            Action::Read => self.read(key).await.map(Outcome::Read),
            Action::Invalidate => Box::pin(self.invalidate(key)).await?.map(|()| Outcome::Written),
            Action::Put(bytes) => Box::pin(self.put(key, bytes)).await?.map(|()| Outcome::Written),
        })
    }

    async fn read(&self, key: &Key) -> Result<ReadKind, Failed> {
        // All but the wire are boxed: a read over the wire would have the size of the largest of
        // them, and moving that would take longer than the read.
        match self {
            Self::Wire(cache) => {
                let read = cache.get(key.as_str()).await?;
                read.map(|read| read_kind(read.source)).ok_or_else(no_value)
            }
            Self::Http(namespace) => {
                let read = Box::pin(namespace.get(key.as_str())).await?;
                read.map(|read| read_kind(read.source)).ok_or_else(no_value)
            }
            Self::Permit(cache, origin) => Box::pin(with_permit(cache, origin, key)).await,
            Self::Origin(origin) => Box::pin(origin.read(key)).await.map(|_| ReadKind::Origin),
        }
    }

    async fn invalidate(&self, key: &Key) -> Option<Result<(), Failed>> {
        let key = key.as_str();
        let deleted = match self {
            Self::Http(namespace) => namespace.delete(key).await,
            Self::Wire(cache) | Self::Permit(cache, _) => cache.delete(key).await,
            // The application changed its data itself; there is no copy to end.
            Self::Origin(_) => return None,
        };
        Some(deleted.map(drop).map_err(Failed::from))
    }

    async fn put(&self, key: &Key, bytes: u32) -> Option<Result<(), Failed>> {
        let value = made_up(bytes);
        let options = PutOptions { media_type: Some(MEDIA_TYPE.into()), ..PutOptions::default() };
        let put = match self {
            Self::Http(namespace) => namespace.put(key.as_str(), value, options).await.map(drop),
            Self::Wire(cache) | Self::Permit(cache, _) => {
                cache.put(key.as_str(), value, options).await.map(drop)
            }
            Self::Origin(origin) if !origin.origin.takes_writes() => return None,
            Self::Origin(origin) => return Some(origin.put(key, &value).await),
        };
        Some(put.map_err(Failed::from))
    }
}

/// Reads a key, and refills it from the origin under a permit.
async fn with_permit(cache: &Cache, origin: &OriginReader, key: &Key) -> Result<ReadKind, Failed> {
    let entry = cache.entry(key.as_str()).codec(Raw);
    let refill = async || origin.read(key).await.map(Refilled::<Bytes>::value);
    let cached = entry.find_or_refill(refill).await?;
    if cached.value.is_none() {
        return Err(no_value());
    }
    Ok(match cached.from {
        CachedFrom::Refill => ReadKind::Origin,
        CachedFrom::SharedRefill => ReadKind::Joined,
        _ => ReadKind::Hit,
    })
}

/// A made-up value of so many bytes, which shares its memory with all others.
fn made_up(bytes: u32) -> Bytes {
    static VALUE: [u8; MAX_VALUE_BYTES as usize] = [b'~'; MAX_VALUE_BYTES as usize];
    Bytes::from_static(&VALUE[..(bytes.min(MAX_VALUE_BYTES)) as usize])
}
