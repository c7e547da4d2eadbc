//! The one table of failures: what a service can refuse or fail to do, on every transport.

/// Declares [`FailureKind`] and its table from one row for each kind.
macro_rules! failures {
    ($($(#[doc = $doc:literal])+
        $kind:ident = $code:literal, $name:literal, $status:literal, $title:literal;)+) => {
        /// A kind of failure. Its name stands in a problem's `type`, its code in a wire reply.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
        pub enum FailureKind {
            $($(#[doc = $doc])+ $kind,)+
        }

        impl FailureKind {
            /// Every kind, by code.
            pub const ALL: &'static [Self] = &[$(Self::$kind,)+];

            /// The name, stable for programs.
            pub const fn name(self) -> &'static str {
                match self { $(Self::$kind => $name,)+ }
            }

            /// A title for people: the same for every failure of the kind.
            pub const fn title(self) -> &'static str {
                match self { $(Self::$kind => $title,)+ }
            }

            /// The HTTP status.
            pub const fn status(self) -> u16 {
                match self { $(Self::$kind => $status,)+ }
            }

            /// The code on the wire. Codes of 64 and more are failures that only HTTP has.
            pub const fn code(self) -> u16 {
                match self { $(Self::$kind => $code,)+ }
            }

            /// What happened, in one sentence.
            pub const fn description(self) -> &'static str {
                match self { $(Self::$kind => concat!($($doc),+),)+ }
            }
        }
    };
}

failures! {
    /// The request is well-formed but out of range or not allowed.
    Invalid = 1, "invalid", 422, "Invalid request";
    /// The token is missing, unknown, expired, or revoked.
    NotSignedIn = 2, "not-signed-in", 401, "Authentication required";
    /// The token lacks a scope.
    MissingScope = 3, "missing-scope", 403, "Missing scope";
    /// The tenant, namespace, or other resource does not exist.
    NotFound = 4, "not-found", 404, "Not found";
    /// A condition of the request does not hold; nothing was changed.
    ConditionFailed = 5, "condition-failed", 412, "Condition not met";
    /// The value is larger than the namespace or the memory allows.
    ValueTooLarge = 6, "value-too-large", 413, "Value too large";
    /// The origin failed to answer, or answered with an error.
    OriginFailed = 7, "origin-failed", 502, "Origin failed";
    /// The origin did not answer in time.
    OriginTimeout = 8, "origin-timeout", 504, "Origin timed out";
    /// The origin has no value for the key.
    NoValue = 9, "no-value", 404, "No value at the origin";
    /// The entry is of another kind: not a counter, or not a rate limit.
    WrongKind = 10, "wrong-kind", 409, "Wrong kind of entry";
    /// A limit on memory, connections, or waiting callers is reached; retry later.
    Overloaded = 11, "overloaded", 503, "Overloaded";
    /// Client and service have no version of the protocol in common.
    UnsupportedVersion = 12, "unsupported-version", 400, "Unsupported protocol version";
    /// MariaDB is unavailable, and the request needs it.
    RecordsUnavailable = 13, "records-unavailable", 503, "Records unavailable";
    /// The service has a defect; its log has the details.
    Internal = 14, "internal", 500, "Internal error";
    /// The caller no longer holds the lock.
    NotHeld = 15, "not-held", 409, "Lock not held";
    /// An invalidation or a write voided the refill permit; nothing was stored.
    PermitVoided = 16, "permit-voided", 409, "Refill permit voided";
    /// The refill permit expired or was used; nothing was stored.
    PermitExpired = 17, "permit-expired", 409, "Refill permit expired";
    /// The node is a standby and did nothing; the active node serves.
    Standby = 18, "standby", 503, "Standby node";
    /// The origin's circuit is open, or too many calls to it are queued.
    OriginUnavailable = 19, "origin-unavailable", 503, "Origin unavailable";
    /// The permit holder abandoned the refill on behalf of every waiting caller.
    RefillAbandoned = 20, "refill-abandoned", 502, "Refill abandoned";
    /// The key does not match the pattern from which the namespace derives its origin's URL.
    KeyMismatch = 21, "key-mismatch", 422, "The key does not match the namespace's pattern";
    /// The namespace's origin refills it, so its callers get no permits.
    HasOrigin = 22, "has-origin", 409, "The namespace has an origin";
    /// A quota of the tenant or namespace does not allow the request now; nothing was changed.
    QuotaExceeded = 23, "quota-exceeded", 429, "Quota exceeded";
    /// The value breaks the content rule of the namespace; nothing was stored.
    BrokenContent = 24, "broken-content", 422, "Value breaks the content rule";

    /// The HTTP request is malformed.
    BadRequest = 64, "bad-request", 400, "Malformed request";
    /// The body is not well-formed JSON.
    MalformedJson = 65, "malformed-json", 400, "Malformed JSON";
    /// The body is not declared as JSON.
    NotJson = 66, "not-json", 415, "JSON required";
    /// The body is larger than the resource accepts.
    BodyTooLarge = 67, "body-too-large", 413, "Body too large";
    /// The body did not arrive in time.
    BodyTimeout = 68, "body-timeout", 408, "Body timed out";
    /// The value is encoded in a way that the service would not store with it.
    UnsupportedCoding = 69, "unsupported-coding", 415, "Unsupported content coding";
    /// The body is transferred in a coding other than chunked.
    UnsupportedTransferCoding = 70, "unsupported-transfer-coding", 501, "Unsupported transfer coding";
    /// The path names no resource.
    NoSuchPath = 71, "no-such-path", 404, "No such path";
    /// The resource does not support the method.
    NoSuchMethod = 72, "no-such-method", 405, "Method not allowed";
    /// The service does not serve this host name.
    ForeignHost = 73, "foreign-host", 421, "Unknown host name";
    /// The entry is not in the cache, and the namespace has no origin.
    Miss = 74, "miss", 404, "Not in the cache";
    /// The resource exists already, or is still in use.
    Conflict = 75, "conflict", 409, "Conflict";
    /// Another caller holds the lock.
    Locked = 76, "locked", 423, "Locked";
    /// Another caller holds the refill permit.
    BeingRefilled = 77, "being-refilled", 423, "Refill in progress";
    /// The rate limit is exhausted.
    RateLimited = 78, "rate-limited", 429, "Rate limit exhausted";
    /// The resource is for connections that change to another protocol.
    UpgradeRequired = 79, "upgrade-required", 426, "Upgrade required";
}

impl FailureKind {
    /// The kind of a wire code; `None` for codes of later versions.
    pub fn of_code(code: u16) -> Option<Self> {
        Self::ALL.iter().copied().find(|kind| kind.code() == code)
    }

    /// The kind of a name; `None` for names of later versions.
    pub fn of_name(name: &str) -> Option<Self> {
        Self::ALL.iter().copied().find(|kind| kind.name() == name)
    }

    /// Whether the wire has this failure; the others come over HTTP alone.
    pub const fn is_on_wire(self) -> bool {
        self.code() < 64
    }

    /// Whether the same request can succeed if it is sent again after a short while.
    pub const fn is_temporary(self) -> bool {
        self.status() == 503 || matches!(self, Self::QuotaExceeded)
    }
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    use super::FailureKind;

    #[test]
    fn names_and_codes_map_back_to_their_kind() {
        for kind in FailureKind::ALL {
            assert_eq!(FailureKind::of_code(kind.code()), Some(*kind));
            assert_eq!(FailureKind::of_name(kind.name()), Some(*kind));
        }
        let titles: HashSet<_> = FailureKind::ALL.iter().map(|kind| kind.title()).collect();
        assert_eq!(titles.len(), FailureKind::ALL.len(), "every kind has a title of its own");
    }

    #[test]
    fn kinds_of_later_versions_are_unknown() {
        assert_eq!(FailureKind::of_code(63), None);
        assert_eq!(FailureKind::of_name("flooded"), None);
    }
}
