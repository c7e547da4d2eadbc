//! The TypeScript client, made from the OpenAPI description alone: its own tests, and the
//! conformance cases.

use std::process::Command;

use verax_e2e::Verax;

#[test]
fn the_typescript_client_passes_its_own_tests() {
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    verax.run(&["namespace", "create", "ferrydesk/typescript", "--max-age", "10m"]).done();
    let client = concat!(env!("CARGO_MANIFEST_DIR"), "/../../clients/typescript");
    let output = Command::new("npm")
        .args(["--prefix", client, "test"])
        .env("VERAX_URL", verax.url())
        .env("VERAX_TOKEN", verax.token())
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&output.stdout);
    assert!(output.status.success(), "build it first: make typescript\n{said}");
    assert!(said.contains("# pass 14"), "{said}");
}
