//! Inputs that the control plane refuses.

use std::fmt;
use std::ops::RangeInclusive;
use std::time::Duration;

use verax_api::{InvalidProfileSpec, InvalidSeconds};
use verax_core::Name;
use verax_core::access::{InvalidScope, Scope};
use verax_core::content::InvalidContentRule;
use verax_core::content_schema::InvalidSchema;
use verax_core::load::{InvalidPopularity, InvalidProfile};
use verax_core::name::InvalidName;
use verax_core::origin::InvalidOriginSettings;
use verax_core::pattern::{InvalidPattern, KeyPattern};
use verax_core::policy::InvalidPolicy;
use verax_core::store::InvalidPosition;
use verax_core::tenant_quota::InvalidTenantQuota;
use verax_core::warm::InvalidPlan;
use verax_origin::{CredentialError, InvalidListing, InvalidOrigin};

use crate::subject::Subject;

/// An input that the control plane refuses.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum InvalidInput {
    /// A token that would last too long.
    #[error("{field} is more than the maximum of {} seconds, ten years", .max.as_secs())]
    Validity {
        /// The field.
        field: &'static str,
        /// The maximum.
        max: Duration,
    },
    /// A token's secret that cannot be one.
    #[error("a token's secret has {} to {} visible ASCII characters", .0.start(), .0.end())]
    Secret(RangeInclusive<usize>),
    /// A malformed name.
    #[error(transparent)]
    Name(#[from] InvalidName),
    /// A malformed scope.
    #[error(transparent)]
    Scope(#[from] InvalidScope),
    /// A malformed key pattern.
    #[error(transparent)]
    Pattern(#[from] InvalidPattern),
    /// A schema that is none, or that cannot be bounded.
    #[error(transparent)]
    ContentSchema(#[from] InvalidSchema),
    /// A policy that contradicts itself or is out of range.
    #[error(transparent)]
    Policy(#[from] InvalidPolicy),
    /// A number of seconds that is out of range.
    #[error(transparent)]
    Seconds(#[from] InvalidSeconds),
    /// Settings of an origin that are out of range.
    #[error(transparent)]
    OriginSettings(#[from] InvalidOriginSettings),
    /// An origin whose URL or query is not valid.
    #[error(transparent)]
    Origin(#[from] InvalidOrigin),
    /// A credential that cannot be read.
    #[error(transparent)]
    Credential(#[from] CredentialError),
    /// Keys of a run that cannot be enumerated.
    #[error(transparent)]
    Plan(#[from] InvalidPlan),
    /// A load profile that is out of range.
    #[error(transparent)]
    Profile(#[from] InvalidProfile),
    /// A load profile that cannot be run.
    #[error(transparent)]
    ProfileSpec(#[from] InvalidProfileSpec),
    /// A target of a load run on another machine.
    #[error(
        "the origin {origin} is on {host}, which load runs may not read: an administrator allows \
         it with --load-hosts at the start of the service"
    )]
    LoadHost {
        /// The origin, as tenant/origin.
        origin: String,
        /// The host.
        host: String,
    },
    /// A run of another profile as the baseline.
    #[error("run {run} is of another load profile: a baseline is a run of the same one")]
    OtherProfile {
        /// The run.
        run: u64,
    },
    /// A profile of one tenant about a namespace of another.
    #[error("the namespace {0} belongs to another tenant than the load profile")]
    OtherTenant(String),
    /// The name of a worker.
    #[error("a load worker needs a name of 1 to {max} characters, without control characters")]
    WorkerName {
        /// The most characters.
        max: usize,
    },
    /// Hashed keys without others to read in their place.
    #[error(
        "recording {0} has hashed keys: give the profile keys to read in their place, the most \
         popular first"
    )]
    HashedRecording(u64),
    /// Fewer keys than a recording has.
    #[error("the profile has {keys} keys, fewer than the {recorded} of recording {recording}")]
    FewerKeys {
        /// The keys of the profile.
        keys: usize,
        /// Those of the recording.
        recorded: usize,
        /// The recording.
        recording: u64,
    },
    /// A recording without reads.
    #[error("recording {0} has no reads of keys that can be read: record while there is traffic")]
    EmptyRecording(u64),
    /// A recording of which parts are missing.
    #[error("recording {0} is incomplete in the records: record the traffic again")]
    IncompleteRecording(u64),
    /// A recording that is replayed too fast.
    #[error(
        "recording {recording} has {per_second:.1} reads per second: at {speed} times its pace \
         they are more than {max} per second"
    )]
    ReplayRate {
        /// The recording.
        recording: u64,
        /// Its average rate.
        per_second: f64,
        /// The speed.
        speed: f64,
        /// The highest rate.
        max: f64,
    },
    /// A length out of range.
    #[error("{seconds} seconds are out of range: record for 1 to {max} seconds")]
    RecordingLength {
        /// The length.
        seconds: f64,
        /// The longest.
        max: u64,
    },
    /// An exported run of another format.
    #[error("the exported run has the format {0}: this Verax reads format 1")]
    ExportVersion(u32),
    /// An exported run that is not whole.
    #[error(
        "the exported run is damaged: its lanes, seconds and state must be those of a run that \
         ended"
    )]
    DamagedExport,
    /// A fault of the stand-in out of range.
    #[error("the stand-in: {0}")]
    StandIn(String),
    /// A mark without text, or with too much.
    #[error("a mark has {characters} characters: use 1 to {max}")]
    Mark {
        /// Its characters.
        characters: usize,
        /// The most.
        max: usize,
    },
    /// A popularity that is out of range.
    #[error(transparent)]
    Popularity(#[from] InvalidPopularity),
    /// A range of time that has no length.
    #[error("the range is empty: it must begin before it ends, and before now")]
    EmptyRange,
    /// A step of usage that is not kept.
    #[error("a step of {seconds} seconds is not kept: use 10, 60, 900 or 86400")]
    UsageStep {
        /// Its length.
        seconds: u64,
    },
    /// Too many points of usage.
    #[error("the range has {points} steps, more than the limit of {max}: use a longer step")]
    UsagePoints {
        /// How many.
        points: u64,
        /// The limit.
        max: u64,
    },
    /// An interval with a tag and a prefix.
    #[error("an interval has a tag or a prefix, or neither for every entry, but not both")]
    IntervalScope,
    /// A namespace whose tenant is not given.
    #[error("a namespace needs its tenant: give both")]
    NamespaceWithoutTenant,
    /// A number out of range.
    #[error("{what} {value} is out of range: use {} to {}", range.start(), range.end())]
    OutOfRange {
        /// What the number is.
        what: &'static str,
        /// The number.
        value: u32,
        /// The allowed numbers.
        range: RangeInclusive<u32>,
    },
    /// A time out of range.
    #[error("{what} = {seconds} is out of range: use {} to {}", range.start(), range.end())]
    TimeOutOfRange {
        /// What it is.
        what: &'static str,
        /// The seconds.
        seconds: f64,
        /// The allowed ones.
        range: RangeInclusive<f64>,
    },
    /// Something that the input refers to.
    #[error("there is no {0}")]
    Missing(Subject),
    /// Something that the input refers to, as the records name it.
    #[error("{0} does not exist")]
    MissingRecord(String),
    /// An origin would read the records.
    #[error(
        "an origin cannot read from the MariaDB that holds Verax's own records: use another server"
    )]
    OwnRecords,
    /// A pool for a query.
    #[error("a query has no pool of servers: omit pool")]
    PoolOfQuery,
    /// A query for an HTTP service.
    #[error("an HTTP service has no query: create another origin for a database")]
    QueryOfService,
    /// An unknown way to select a server.
    #[error("balance = {0:?} is neither round-robin nor least-outstanding")]
    Balance(String),
    /// An unknown form of a query's result.
    #[error("result = {0:?} is neither rows nor row")]
    ResultForm(String),
    /// An origin's variable without a value in the key.
    #[error(
        "origin {origin} needs a value for {{{variable}}}, but the key pattern {pattern} has no such variable"
    )]
    Variable {
        /// The origin, as tenant/origin.
        origin: String,
        /// The variable.
        variable: String,
        /// The namespace's key pattern.
        pattern: KeyPattern,
    },
    /// Write-through to a query.
    #[error("origin {0} is a query, which is read-only: turn write_through off")]
    ReadOnlyOrigin(String),
    /// A token with no scope, or too many.
    #[error("a token needs {} to {} scopes", .0.start(), .0.end())]
    ScopeCount(RangeInclusive<usize>),
    /// A token's note that is too long.
    #[error("the note is longer than {max} characters")]
    Note {
        /// The maximum, in characters.
        max: usize,
    },
    /// A scope that opens nothing.
    #[error("the scope {scope} has no effect: there is no {missing}")]
    ScopeWithoutEffect {
        /// The scope.
        scope: Scope,
        /// What it would open.
        missing: Subject,
    },
    /// Reserves that exceed the memory together.
    #[error(
        "a reserve of {reserve} bytes is too large: {others} {reserved} of {limit} bytes, which leaves {left}"
    )]
    Reserve {
        /// The requested reserve.
        reserve: u64,
        /// Who else reserves.
        others: Reserves,
        /// What the others reserve.
        reserved: u64,
        /// What may be reserved together.
        limit: u64,
        /// What is left.
        left: u64,
    },
    /// A tenant's quota that its namespaces' reserves do not fit into.
    #[error(
        "a {what} of {bytes} bytes is less than the {reserves} bytes that the tenant's namespaces reserve: lower those first"
    )]
    NamespaceReserves {
        /// The reserve or the cap.
        what: &'static str,
        /// Its size.
        bytes: u64,
        /// The reserves of the namespaces together.
        reserves: u64,
    },
    /// A largest value above the tenant's.
    #[error(
        "a largest value of {bytes} bytes is more than the {most} bytes that the tenant may store"
    )]
    TenantValue {
        /// The largest value.
        bytes: u64,
        /// The tenant's.
        most: u64,
    },
    /// A bypass that would last too long.
    #[error("a bypass of {} seconds is too long: use at most {} (a day), and repeat it", length.as_secs(), max.as_secs())]
    Bypass {
        /// The requested length.
        length: Duration,
        /// The maximum.
        max: Duration,
    },
    /// A cursor that is none.
    #[error(transparent)]
    Cursor(#[from] InvalidPosition),
    /// An unknown content rule.
    #[error(transparent)]
    Content(#[from] InvalidContentRule),
    /// A malformed quota of a tenant.
    #[error(transparent)]
    TenantQuota(#[from] InvalidTenantQuota),
    /// A run over a namespace without an origin.
    #[error("namespace {0} has no origin to read from: bind one with `verax namespace change`")]
    NoOrigin(String),
    /// A warm run over a namespace without an origin that no service refills.
    #[error(
        "namespace {0} has no origin, and no service waits to refill its keys: start one that does, or bind an origin with `verax namespace change`"
    )]
    NothingToWarmFrom(String),
    /// A max-age for values that services store.
    #[error(
        "namespace {0} is refilled by services, which set the max-age of what they store: leave the plan's out"
    )]
    MaxAgeOfServices(String),
    /// A pattern that is needed.
    #[error("namespace {0} has no key pattern: name a pattern in the plan")]
    NoPattern(String),
    /// Too few or too many sources of keys.
    #[error("a plan needs 1 to 32 sources of keys, not {0}: list, pattern, tag, prefix or hottest")]
    KeySources(usize),
    /// Too many keys.
    #[error("the plan names more than {keys} keys, or more than {bytes} bytes of them: warm fewer")]
    TooManyKeys {
        /// The most keys.
        keys: usize,
        /// The most bytes.
        bytes: usize,
    },
    /// A key that is none.
    #[error("{key:?} is not a key: {error}")]
    RunKey {
        /// The key.
        key: String,
        /// Why.
        error: verax_core::key::InvalidKey,
    },
    /// A listing for a namespace without an origin.
    #[error("the values of {0} come from a listing, but the namespace has no origin to list them")]
    NoListing(String),
    /// A listing of something else.
    #[error(
        "the values of {variable}: the listing {reference:?} has items that are neither texts nor numbers; use it for rows"
    )]
    NotTexts {
        /// The variable.
        variable: String,
        /// The listing.
        reference: String,
    },
    /// Rows that cannot be listed.
    #[error("the rows of the plan: {error}")]
    Rows {
        /// Why.
        error: InvalidListing,
    },
    /// A row without a value.
    #[error("{rows} has a row without a text or number {variable:?}, which the key pattern needs")]
    RowWithout {
        /// The variable.
        variable: String,
        /// The rows.
        rows: String,
    },
    /// An origin that has no rows.
    #[error("origin {0} has no rows to read: use a query without variables whose result is rows")]
    NotAQueryOfRows(String),
    /// A query of rows that failed.
    #[error("the rows of the query {query}: {reason}")]
    QueryFailed {
        /// The origin.
        query: String,
        /// Why.
        reason: String,
    },
    /// A plan that is too large.
    #[error(
        "the plan has {bytes} bytes, more than {most}: keep its keys in a file, and start it with them"
    )]
    PlanTooLarge {
        /// Its bytes.
        bytes: usize,
        /// The most.
        most: usize,
    },
    /// An origin without room for warming.
    #[error(
        "origin {0} allows one call at a time, which is left to readers: raise its max concurrency to 2 or more to warm from it"
    )]
    NoPlaceToWarm(String),
    /// How a plan is carried out.
    #[error(transparent)]
    WarmSettings(#[from] verax_core::warm::InvalidWarmSettings),
    /// Values that cannot be made.
    #[error(transparent)]
    WarmValues(#[from] verax_core::warm::InvalidValues),
    /// A schedule.
    #[error(transparent)]
    Schedule(#[from] verax_core::schedule::InvalidSchedule),
    /// The values of a variable cannot be listed.
    #[error("the values of {variable}: {error}")]
    Values {
        /// The variable.
        variable: String,
        /// Why.
        error: InvalidListing,
    },
    /// A key of a run that its namespace does not have.
    #[error("the key {key:?} does not match the pattern {pattern} of namespace {namespace}")]
    ForeignKey {
        /// The key.
        key: String,
        /// The namespace's key pattern.
        pattern: KeyPattern,
        /// The namespace.
        namespace: String,
    },
    /// A malformed path of a namespace.
    #[error("{0:?} is not TENANT/NAMESPACE")]
    Path(String),
    /// An unknown drill.
    #[error("there is no drill {name:?}; there are {}", known.join(", "))]
    Drill {
        /// The requested drill.
        name: String,
        /// The available drills.
        known: Vec<String>,
    },
}

/// Who else reserves memory.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Reserves {
    /// The other tenants.
    Tenants,
    /// All other namespaces.
    Namespaces,
    /// The other namespaces of the tenant, which has a reserve of its own.
    Siblings,
}

impl fmt::Display for Reserves {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Tenants => "other tenants reserve",
            Self::Namespaces => "other namespaces and tenants reserve",
            Self::Siblings => "the tenant's other namespaces take, of its reserve,",
        })
    }
}

impl InvalidInput {
    /// A policy names an origin that its tenant does not have.
    pub(crate) fn no_origin(tenant: &Name, origin: &Name) -> Self {
        Self::Missing(Subject::Origin(format!("{tenant}/{origin}")))
    }
}
