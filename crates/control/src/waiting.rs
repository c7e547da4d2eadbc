//! Who waits for what, in all namespaces a caller may read.

use std::collections::HashMap;
use std::sync::Arc;

use verax_api::Origin;
use verax_core::NamespaceId;
use verax_core::access::{Right, Scope};
use verax_core::guard::PermitView;
use verax_core::guard::lock::LockView;
use verax_engine::events::{LockEvent, RefillRecord};

use crate::access::Caller;
use crate::control::Control;
use crate::origins::origin_as_seen_by;
use crate::registry::Registered;

/// An item and its namespace.
pub type InNamespace<T> = (Arc<Registered>, T);

/// Who waits for what.
#[derive(Debug, Default)]
pub struct Waiting {
    /// Live refill permits, oldest first.
    pub permits: Vec<InNamespace<PermitView>>,
    /// Held locks, longest-held first.
    pub locks: Vec<InNamespace<LockView>>,
    /// The latest refills, newest first.
    pub refills: Vec<InNamespace<RefillRecord>>,
    /// Recent lock events, newest first.
    pub lock_events: Vec<InNamespace<LockEvent>>,
    /// The origins of tenants that the caller manages.
    pub origins: Vec<Origin>,
}

impl Control {
    /// Lists who waits for what in the namespaces the caller may read, at most `most` of each kind.
    pub fn waiting(&self, caller: &Caller, most: usize) -> Waiting {
        let readable: HashMap<NamespaceId, Arc<Registered>> = self
            .registry
            .namespaces()
            .into_iter()
            .filter(|n| caller.needs_within(Right::Read, n.tenant(), n.name()).is_ok())
            .map(|namespace| (namespace.id(), namespace))
            .collect();
        let views = self.engine.permits_where(|of| readable.contains_key(&of), most);
        let placed = |v: PermitView| Some((Arc::clone(readable.get(&v.namespace)?), v));
        let permits: Vec<InNamespace<PermitView>> = views.into_iter().filter_map(placed).collect();
        let placed = |view: LockView| Some((Arc::clone(readable.get(&view.name.0)?), view));
        let views = self.engine.locks_where(|of| readable.contains_key(&of), most);
        let locks: Vec<InNamespace<LockView>> = views.into_iter().filter_map(placed).collect();
        let refills = self.observatory.latest_refills(|of| readable.get(&of).cloned(), most);
        let lock_events =
            self.observatory.latest_lock_events(|of| readable.get(&of).cloned(), most);
        let origins = self.managed_origins(caller);
        Waiting { permits, locks, refills, lock_events, origins }
    }

    /// The current origins of the tenants the caller manages, by tenant and name.
    pub fn managed_origins(&self, caller: &Caller) -> Vec<Origin> {
        let tenants = self.registry.read();
        let mut origins: Vec<Origin> = tenants
            .iter()
            .filter(|(tenant, _)| caller.holds(&Scope::tenant(Right::Manage, tenant)))
            .flat_map(|(_, tenant)| tenant.origins.values())
            .map(|(record, origin)| origin_as_seen_by(caller, record, origin))
            .collect();
        origins.sort_by(|a, b| (&a.tenant, &a.name).cmp(&(&b.tenant, &b.name)));
        origins
    }
}
