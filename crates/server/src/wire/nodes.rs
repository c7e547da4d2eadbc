//! The nodes in a welcome.

use verax_control::{NodeId, NodeState, Role, Topology};

/// The maximum number of addresses in a welcome.
const MAX_NODES: usize = 16;

/// The addresses of the nodes, the active one first; this node's own is empty. A standby that does
/// not know the active node names none: its own address in first place would claim that it is
/// active.
pub(super) fn addresses(topology: &Topology, this: Option<NodeId>, role: Role) -> Vec<&str> {
    let Some(this) = this else { return vec![""] };
    let others = || {
        let present = topology.nodes.iter().filter(|(_, state)| *state != NodeState::Away);
        present.map(|(node, _)| node).filter(|node| node.id != this && !node.wire.is_empty())
    };
    // This node's own state overrides what was read a second ago.
    let first = match role {
        Role::Active => "",
        Role::Standby => match topology.active().filter(|active| active.id != this) {
            Some(active) if !active.wire.is_empty() => active.wire.as_str(),
            _ => return Vec::new(),
        },
    };
    let mut addresses = vec![first];
    if role == Role::Standby {
        addresses.push("");
    }
    let further = others().map(|node| node.wire.as_str()).filter(|address| *address != first);
    addresses.extend(further);
    addresses.truncate(MAX_NODES);
    addresses
}

#[cfg(test)]
mod tests {
    use verax_control::Node;

    use super::*;

    fn topology(nodes: &[(&str, NodeState)]) -> (Topology, Vec<NodeId>) {
        let node = |(wire, state): &(&str, NodeState)| {
            let (http, wire, version) = (String::new(), (*wire).to_owned(), "1".to_owned());
            (Node { id: NodeId::random(), http, wire, version }, *state)
        };
        let nodes: Vec<_> = nodes.iter().map(node).collect();
        let ids = nodes.iter().map(|(node, _)| node.id).collect();
        (Topology { nodes, ..Topology::default() }, ids)
    }

    #[test]
    fn the_active_node_is_listed_first_even_by_a_standby() {
        use NodeState::{Active, Away, Standby};
        let (pair, ids) = topology(&[("b:1", Standby), ("gone:1", Away), ("a:1", Active)]);
        assert_eq!(addresses(&pair, Some(ids[2]), Role::Active), ["", "b:1"]);
        assert_eq!(addresses(&pair, Some(ids[0]), Role::Standby), ["a:1", ""]);
        assert_eq!(addresses(&pair, None, Role::Active), [""]);
        // The active node has not announced its address.
        let (untold, ids) = topology(&[("b:1", Standby), ("", Active), ("c:1", Standby)]);
        assert!(addresses(&untold, Some(ids[0]), Role::Standby).is_empty());
        assert_eq!(addresses(&untold, Some(ids[1]), Role::Active), ["", "b:1", "c:1"]);
        // None is active, and what was read is older than this node's own state.
        let (none, ids) = topology(&[("b:1", Standby), ("a:1", Away)]);
        assert!(addresses(&none, Some(ids[0]), Role::Standby).is_empty());
        assert_eq!(addresses(&none, Some(ids[0]), Role::Active), [""]);
        let (own, ids) = topology(&[("a:1", Active), ("b:1", Standby)]);
        assert!(addresses(&own, Some(ids[0]), Role::Standby).is_empty());
        let many: Vec<_> = (0..40).map(|_| ("x:1", Standby)).collect();
        let (many, ids) = topology(&many);
        assert_eq!(addresses(&many, Some(ids[0]), Role::Active).len(), MAX_NODES);
    }
}
