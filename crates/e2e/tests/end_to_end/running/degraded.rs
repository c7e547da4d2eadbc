//! Without MariaDB, and after SIGKILL: what is promised, and what is not.

use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use verax_client::{PutOptions, Source};
use verax_e2e::{Verax, is_running, until};

fn signal(process: u32, signal: Signal) {
    kill(Pid::from_raw(process as i32), signal).unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn entries_are_served_without_mariadb_and_records_survive_sigkill() {
    let verax = Verax::serve(&[]);
    verax.run(&["tenant", "create", "tideline"]).done();
    verax.run(&["namespace", "create", "tideline/tables", "--max-age", "10m"]).done();
    let secret = verax
        .run(&["token", "create", "--scope", "read:tideline", "--note", "gauge reader"])
        .done();
    let client = verax.client();
    let tables = client.namespace("tideline", "tables").unwrap();
    tables.put("tide/1", "2.41 m", PutOptions::default()).await.unwrap();

    // MariaDB hangs: entries are served and stored, changes are refused within seconds, and it
    // shows.
    let mariadb = verax.mariadb().unwrap();
    signal(mariadb, Signal::SIGSTOP);
    until("it is noticed", async || client.ready().await.unwrap().records == "unavailable").await;
    assert!(client.ready().await.unwrap().ready);
    assert_eq!(tables.get("tide/1").await.unwrap().unwrap().source, Source::Hit);
    tables.put("tide/2", "2.38 m", PutOptions::default()).await.unwrap();
    let refused = client.create_tenant("late").await.unwrap_err();
    assert_eq!((refused.status(), refused.problem()), (Some(503), Some("records-unavailable")));
    assert!(refused.to_string().contains("entries are still served"), "{refused}");
    signal(mariadb, Signal::SIGCONT);
    until("it is back", async || client.ready().await.unwrap().records == "available").await;

    // MariaDB crashes: Verax starts it again.
    signal(mariadb, Signal::SIGKILL);
    assert_eq!(tables.get("tide/1").await.unwrap().unwrap().source, Source::Hit);
    until("it was started again", async || {
        verax.mariadb().is_some_and(|p| p != mariadb && is_running(p))
            && client.create_tenant("after").await.is_ok_and(|t| t.name == "after")
    })
    .await;

    // Verax itself is killed: MariaDB does not outlive it, the next start has all records, and the
    // cache is empty, as a cache may be.
    let (process, mariadb) = (verax.process(), verax.mariadb().unwrap());
    let verax = verax.kill_and_restart();
    assert!(!is_running(process));
    until("the old MariaDB has ended", async || !is_running(mariadb)).await;
    let tenants = verax.run(&["tenant", "list", "--json"]).json();
    assert_eq!(tenants.as_array().unwrap().len(), 2, "{tenants}");
    let reader = verax.client_with(secret.trim()).namespace("tideline", "tables").unwrap();
    assert!(reader.get("tide/1").await.unwrap().is_none());

    // A clean end leaves nothing running.
    let (process, mariadb) = (verax.process(), verax.mariadb().unwrap());
    drop(verax);
    assert!(!is_running(process) && !is_running(mariadb));
}
