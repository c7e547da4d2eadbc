//! The Python client, which shows that the HTTP contract suffices to write one.

#![allow(clippy::unwrap_used)]

use std::process::Command;

use verax_e2e::Verax;

#[test]
fn the_python_client_passes_its_own_tests() {
    let verax = Verax::serve(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    verax.run(&["namespace", "create", "ferrydesk/python", "--max-age", "5m"]).done();
    let key = verax.run(&["key", "board", "limit=10", "harbor=aldermouth"]).done();
    let tests = concat!(env!("CARGO_MANIFEST_DIR"), "/../../clients/python/tests/test_verax.py");
    let output = Command::new("python3")
        .args(["-B", tests])
        .env("VERAX_URL", verax.url())
        .env("VERAX_TOKEN", verax.token())
        .env("EXPECTED_KEY", key.trim())
        .output()
        .unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
}
