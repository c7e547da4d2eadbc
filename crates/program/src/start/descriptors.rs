//! File descriptors: as many as the connections need.

use nix::sys::resource::{Resource, getrlimit, setrlimit};
use verax_server::ConnectionLimits;

/// Descriptors for everything but connections of clients: files, MariaDB, origins.
const OTHERS: u64 = 1_500;

/// Raises this process's limit of open files to what the connections need, or lowers their limits
/// to what the system allows, with a word.
pub(super) fn raise(wanted: ConnectionLimits) -> ConnectionLimits {
    let needed = 2 * wanted.connections as u64 + OTHERS;
    let Ok((soft, hard)) = getrlimit(Resource::RLIMIT_NOFILE) else { return wanted };
    if soft >= needed {
        return wanted;
    }
    let given = needed.min(hard);
    let raised = setrlimit(Resource::RLIMIT_NOFILE, given, hard).is_ok();
    let limit = if raised { given } else { soft };
    let fitting = fitting(wanted, limit);
    if fitting != wanted {
        tracing::warn!(
            open_files = limit,
            needed,
            connections = fitting.connections,
            "the limit of open files is too low for the configured number of connections, so fewer are allowed: raise it (ulimit -n, LimitNOFILE) or lower --max-connections"
        );
    }
    fitting
}

/// The limits that fit into so many descriptors.
fn fitting(wanted: ConnectionLimits, descriptors: u64) -> ConnectionLimits {
    let room = descriptors.saturating_sub(OTHERS.min(descriptors / 2)) / 2;
    let connections = wanted.connections.min(usize::try_from(room).unwrap_or(usize::MAX)).max(10);
    ConnectionLimits { connections, per_address: wanted.per_address.min(connections) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn connection_limits_fit_the_available_descriptors() {
        let wanted = ConnectionLimits { connections: 10_000, per_address: 5_000 };
        assert_eq!(fitting(wanted, 21_500), wanted);
        assert_eq!(fitting(wanted, 21_499).connections, 9_999);
        let few = fitting(wanted, 1_024);
        assert_eq!((few.connections, few.per_address), (256, 256));
    }
}
