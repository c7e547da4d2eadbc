//! What the lanes of a load run read, and whether its caller may load that.

use verax_core::access::{Right, Scope};
use verax_core::load::{LaneReads, LaneTarget, LoadProfile, OriginTarget, RefillBy};
use verax_core::pattern::KeyPattern;
use verax_core::{Key, Name};

use crate::access::Caller;
use crate::control::Control;
use crate::error::ControlError;
use crate::invalid::InvalidInput;
use crate::registry::Registered;

/// Whether a host is this machine.
fn is_loopback(host: &str) -> bool {
    let address = host.trim_matches(['[', ']']).parse::<std::net::IpAddr>();
    host.eq_ignore_ascii_case("localhost") || address.is_ok_and(|address| address.is_loopback())
}

impl Control {
    /// The targets of the lanes of a profile, in its order.
    pub(super) fn load_targets(
        &self,
        caller: &Caller,
        namespace: &Registered,
        profile: &LoadProfile,
    ) -> Result<Vec<LaneTarget>, ControlError> {
        let target = |reads: &LaneReads| match reads {
            LaneReads::Origin(origin) => {
                self.origin_target(caller, namespace, origin.as_ref()).map(LaneTarget::Origin)
            }
            LaneReads::Cache { through, refill, origin } => {
                let (through, refill) = (*through, *refill);
                let is_refilled = refill == RefillBy::Permit;
                // What the service reads through is loaded as well, so it must be allowed, too.
                if !is_refilled && namespace.binding().policy.origin.is_some() {
                    self.origin_target(caller, namespace, None)?;
                }
                let origin =
                    is_refilled.then(|| self.origin_target(caller, namespace, origin.as_ref()));
                Ok(LaneTarget::Cache {
                    tenant: namespace.tenant().to_string(),
                    namespace: namespace.name().to_string(),
                    through,
                    refill,
                    origin: origin.transpose()?,
                })
            }
        };
        profile.lanes.iter().map(|lane| target(&lane.reads)).collect()
    }

    /// An origin as a target: that of the namespace, or another one of its tenant.
    fn origin_target(
        &self,
        caller: &Caller,
        namespace: &Registered,
        name: Option<&Name>,
    ) -> Result<OriginTarget, ControlError> {
        let tenant = namespace.tenant();
        let binding = namespace.binding();
        let bound = binding.policy.origin.as_ref();
        let name = match (name, bound) {
            (Some(name), _) => name,
            (None, Some(bound)) => &bound.origin,
            (None, None) => return Err(InvalidInput::NoOrigin(namespace.path()).into()),
        };
        let found = self.registry.read().get(tenant).and_then(|tenant| {
            let (record, origin) = tenant.origins.get(name)?;
            Some((record.settings.clone(), origin.clone()))
        });
        let (settings, origin) = found
            .filter(|(settings, _)| {
                bound.is_some_and(|bound| bound.origin == *name)
                    || caller.holds(&Scope::tenant(Right::Manage, tenant))
                    || settings.open_to.contains(namespace.name())
            })
            .ok_or_else(|| InvalidInput::no_origin(tenant, name))?;
        let is_allowed =
            |host: &str| is_loopback(host) || self.load_hosts.iter().any(|allowed| allowed == host);
        if let Some(host) = origin.hosts().into_iter().find(|host| !is_allowed(host)) {
            let origin = format!("{tenant}/{name}");
            return Err(InvalidInput::LoadHost { origin, host }.into());
        }
        let key_pattern = match bound {
            Some(bound) => bound.key_pattern.to_string(),
            None => "{key}".to_owned(),
        };
        Ok(OriginTarget { settings, key_pattern })
    }

    /// Checks that every key can be read by every lane.
    pub(super) fn check_load_keys(
        namespace: &Registered,
        targets: &[LaneTarget],
        keys: &[Key],
    ) -> Result<(), ControlError> {
        for target in targets {
            let (LaneTarget::Origin(origin) | LaneTarget::Cache { origin: Some(origin), .. }) =
                target
            else {
                continue;
            };
            let pattern = KeyPattern::parse(&origin.key_pattern).map_err(ControlError::invalid)?;
            let foreign = keys.iter().find(|key| pattern.values_of(key.as_str()).is_none());
            if let Some(key) = foreign {
                return Err(super::super::keys::foreign(namespace, key, &pattern));
            }
        }
        Ok(())
    }
}

/// What a run's own token opens, which its caller must hold.
pub(super) fn scopes(profile: &LoadProfile, tenant: &Name, name: &Name) -> Vec<Scope> {
    let scope = |right| Scope::within(right, tenant, name);
    let refills = profile
        .lanes
        .iter()
        .any(|lane| matches!(lane.reads, LaneReads::Cache { refill: RefillBy::Permit, .. }));
    let mut scopes = vec![scope(Right::Read)];
    if profile.mix.put_percent > 0.0 || refills {
        scopes.push(scope(Right::Write));
    }
    if profile.mix.invalidate_percent > 0.0 {
        scopes.push(scope(Right::Invalidate));
    }
    scopes
}

#[cfg(test)]
mod tests {
    use super::is_loopback;

    #[test]
    fn loopback_is_this_machine() {
        for host in ["127.0.0.1", "127.8.0.1", "[::1]", "::1", "LocalHost"] {
            assert!(is_loopback(host), "{host}");
        }
        for host in ["10.0.0.1", "ferries.example", "localhost.ferries.example", "127.0.0.1.nip"] {
            assert!(!is_loopback(host), "{host}");
        }
    }
}
