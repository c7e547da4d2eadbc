//! Nodes over one MariaDB: who is there, who owns the share, and what the records say of it.

use std::time::Duration;

use diesel_async::{AsyncConnection, AsyncMysqlConnection, SimpleAsyncConnection};
use futures_util::FutureExt;
use verax_core::{Name, Timestamp};
use verax_records::launcher::PrivateServer;
use verax_records::{Actor, Node, NodeId, NodeState, Ownership, Records, RecordsError, Topology};

const NOW: Timestamp = Timestamp::from_millis(1);

fn node(address: &str) -> Node {
    let (http, wire) = (format!("http://{address}"), address.to_owned());
    Node { id: NodeId::random(), http, wire, version: "1".into() }
}

fn states(topology: &Topology) -> Vec<(&str, NodeState)> {
    topology.nodes.iter().map(|(node, state)| (node.wire.as_str(), *state)).collect()
}

struct Place {
    server: PrivateServer,
    records: Records,
    _directory: tempfile::TempDir,
}

impl Place {
    async fn start() -> Self {
        let directory = tempfile::tempdir().unwrap();
        let server = PrivateServer::start(directory.path()).await.unwrap();
        let records = Records::open(server.url("verax")).await.unwrap();
        Self { server, records, _directory: directory }
    }

    /// A handle as another process has it.
    fn handle(&self) -> Records {
        Records::later(self.records.url().unwrap())
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_lease_passes_from_one_node_to_the_next() {
    let place = Place::start().await;
    let (first, second) = (node("first"), node("second"));
    let (of_first, of_second) = (place.handle(), place.handle());
    let mut one = of_first.join(first.id).await.unwrap();
    of_first.register(&first, NOW).await.unwrap();
    assert_eq!(one.begin_epoch(0, NOW).await, Err(RecordsError::NotOwner), "without the lease");
    assert!(one.acquire_lease(Duration::ZERO).await.unwrap());
    let epoch = one.begin_epoch(6, NOW).await.unwrap();
    assert!(epoch > 6 && one.confirm().await.unwrap());
    assert_eq!(
        (one.ownership().await.unwrap(), one.standbys().await.unwrap()),
        (Ownership::Ours, 0)
    );

    let mut two = of_second.join(second.id).await.unwrap();
    of_second.register(&second, NOW).await.unwrap();
    assert_eq!(one.standbys().await.unwrap(), 1);
    assert!(!two.acquire_lease(Duration::ZERO).await.unwrap());
    let topology = place.records.topology().await.unwrap();
    assert_eq!((topology.owner, topology.epoch), (Some(first.id), epoch));
    let both = [("first", NodeState::Active), ("second", NodeState::Standby)];
    let mut seen = states(&topology);
    seen.sort_by_key(|(wire, _)| *wire);
    assert_eq!(seen, both);

    // What nobody changed is not written again; a new address is.
    of_second.register(&second, NOW).await.unwrap();
    assert_eq!(place.records.topology().await.unwrap().revision, topology.revision);
    let moved = Node { http: "http://elsewhere".into(), ..second.clone() };
    of_second.register(&moved, NOW).await.unwrap();
    assert!(place.records.topology().await.unwrap().revision > topology.revision);

    // The one that leaves gives the share back; one that leaves without having it does not.
    of_second.leave(second.id).await.unwrap();
    assert_eq!(place.records.topology().await.unwrap().owner, Some(first.id));
    of_first.leave(first.id).await.unwrap();
    drop(one);
    let topology = place.records.topology().await.unwrap();
    assert_eq!((topology.owner, topology.nodes.len()), (None, 0));
    assert!(two.acquire_lease(Duration::from_secs(5)).await.unwrap());
    assert!(two.begin_epoch(0, NOW).await.unwrap() > epoch);
    let (actor, late) = (Actor::new("first"), Name::new("late").unwrap());
    assert_eq!(of_first.create_tenant(&late, &actor, NOW).await, Err(RecordsError::NotOwner));
    of_second.create_tenant(&late, &actor, NOW).await.unwrap();
    drop(two);
    place.server.stop().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_silent_or_duplicate_node_is_detected() {
    let place = Place::start().await;
    let (first, second) = (node("first"), node("second"));
    let mut one = place.handle().join(first.id).await.unwrap();
    assert!(one.acquire_lease(Duration::ZERO).await.unwrap());
    // Nothing is asked on its connection from here on: the host may be gone.
    let mut two = place.handle().join(second.id).await.unwrap();
    assert!(two.acquire_lease(Duration::from_secs(30)).await.unwrap());
    assert!(one.has_lease().await.is_err() && !one.is_open());
    let again = place.handle();
    let mut joining = Box::pin(again.join(second.id));
    let twice = loop {
        tokio::select! {
            joined = &mut joining => break joined.unwrap_err(),
            // It gives signs of life meanwhile, as a node does.
            () = tokio::time::sleep(Duration::from_millis(500)) => assert!(two.has_lease().await.unwrap()),
        }
    };
    assert_eq!(twice, RecordsError::SameNode(second.id.to_string()));

    // A call that is dropped takes the connection with it: its answer may still come.
    // A quick server may have answered at the first look; a call that is complete harms nothing.
    let is_dropped = (0..1_000).any(|_| two.has_lease().now_or_never().is_none());
    assert!(is_dropped);
    assert!(!two.is_open());
    place.server.stop().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn absent_nodes_are_remembered_up_to_a_limit() {
    let place = Place::start().await;
    let present = node("present");
    let membership = place.records.join(present.id).await.unwrap();
    place.records.register(&present, Timestamp::from_millis(0)).await.unwrap();
    for n in 1..=20 {
        let away = node(&format!("away-{n}"));
        place.records.register(&away, Timestamp::from_millis(n)).await.unwrap();
    }
    let topology = place.records.topology().await.unwrap();
    // The eight latest besides the one that registered last.
    let seen = states(&topology);
    assert_eq!(seen.len(), 10, "{seen:?}");
    assert_eq!((seen[0], seen[1].0), (("present", NodeState::Standby), "away-12"));
    assert_eq!((topology.count(NodeState::Away), topology.count(NodeState::Active)), (9, 0));
    drop(membership);
    place.server.stop().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn restored_records_are_distinguished_from_another_owner() {
    let place = Place::start().await;
    let first = node("first");
    let mut one = place.records.join(first.id).await.unwrap();
    assert!(one.acquire_lease(Duration::ZERO).await.unwrap());
    let before = one.begin_epoch(0, NOW).await.unwrap();
    let now = one.begin_epoch(0, NOW).await.unwrap();
    let mut connection =
        AsyncMysqlConnection::establish(place.records.url().unwrap()).await.unwrap();
    let back = format!("UPDATE shares SET epoch = {before}");
    connection.batch_execute(&back).await.unwrap();
    assert!(!one.confirm().await.unwrap());
    assert_eq!(one.ownership().await.unwrap(), Ownership::OtherEpoch);
    let (actor, late) = (Actor::new("first"), Name::new("late").unwrap());
    let refused = place.records.create_tenant(&late, &actor, NOW).await;
    assert_eq!(refused, Err(RecordsError::NotOwner));
    connection.batch_execute("UPDATE shares SET owner = NULL").await.unwrap();
    assert_eq!(one.ownership().await.unwrap(), Ownership::Theirs);
    assert!(one.begin_epoch(now, NOW).await.unwrap() > now);
    place.records.create_tenant(&late, &actor, NOW).await.unwrap();
    drop(one);
    place.server.stop().await.unwrap();
}
