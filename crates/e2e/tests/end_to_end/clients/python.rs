//! The Python client, over both transports: its own tests, and the conformance cases.

use std::process::Command;

use verax_e2e::Verax;

#[test]
fn the_asgi_application_of_the_recipes_reads_through_the_cache() {
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    verax.run(&["namespace", "create", "ferrydesk/boards"]).done();
    let tests = concat!(env!("CARGO_MANIFEST_DIR"), "/../../recipes/tests/test_departure_app.py");
    let output = Command::new("python3")
        .args(["-B", tests])
        .env("VERAX_WIRE_URL", verax.wire())
        .env("VERAX_TOKEN", verax.token())
        .output()
        .unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
}

#[test]
fn the_python_client_passes_its_own_tests() {
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    for namespace in ["ferrydesk/python", "ferrydesk/notes"] {
        verax.run(&["namespace", "create", namespace, "--max-age", "10m"]).done();
    }
    let key = verax.run(&["key", "board", "limit=10", "harbor=aldermouth"]).done();
    let tests = concat!(env!("CARGO_MANIFEST_DIR"), "/../../clients/python/tests/test_verax.py");
    let output = Command::new("python3")
        .args(["-B", tests])
        .env("VERAX_URL", verax.url())
        .env("VERAX_WIRE_URL", verax.wire())
        .env("VERAX_TOKEN", verax.token())
        .env("EXPECTED_KEY", key.trim())
        .output()
        .unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
}
