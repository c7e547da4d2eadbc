//! The API and its own description: the description is valid, and what the service answers to
//! requests made from it, right and wrong ones, is what it describes.

use std::path::PathBuf;
use std::process::Command;

use verax_e2e::{Verax, program};

/// A program of the API tester, which `make api-tester` installs.
fn tester(name: &str) -> PathBuf {
    let program = program();
    let target = program.ancestors().find(|path| path.ends_with("target")).unwrap();
    let path = target.join("api-tester/bin").join(name);
    assert!(path.is_file(), "{} is missing: run `make api-tester`", path.display());
    path
}

/// What is left out: streams do not end, and ended tokens and sessions would end the test's own.
/// Load runs and drills would take the machine from the tests beside this one.
const LEFT_OUT: &str = "/live$|^/v1/tokens/|/v1/session$|load-runs$|drill-runs$";

/// The same cases in every run: each field at and beyond its bounds, missing, and of another type.
const CASES: [&str; 7] = [
    "--phases=examples,coverage",
    "--max-time=300",
    "--request-timeout=30",
    "--workers=1",
    "--continue-on-failure",
    "--seed=7",
    "--no-color",
];

/// What a request that fits the description may be answered with: it may ask for what is not there,
/// what is held, or what cannot be for reasons that no schema says.
const SETTINGS: &str = r#"
[checks.positive_data_acceptance]
expected-statuses = ["2xx", 403, 404, 409, 412, 413, 422, 423, 429]

# A header field that the description does not know is ignored, so the condition beside it decides.
[checks.negative_data_rejection]
expected-statuses = [400, 401, 403, 404, 405, 406, 409, 412, 413, 415, 422, 428, 429, "5xx"]

# The tester has its own idea of what an If-Match may be: without quotes.
[[operations]]
include-path-regex = "/(namespaces|origins|tenants|warm-plans|load-profiles|schedules)/[^/]+$|/entries/"
[operations.checks.positive_data_acceptance]
expected-statuses = ["2xx", 400, 403, 404, 409, 412, 413, 422, 423, 429]

# A worker's connection changes to another protocol, which the tester cannot ask for.
[[operations]]
include-path-regex = "/load-workers$"
[operations.checks.positive_data_acceptance]
expected-statuses = [101, 200, 403, 422, 426, 429]
"#;

/// Runs a tester that must find nothing; returns what it said.
fn run(command: &mut Command) -> String {
    let output = command.output().unwrap();
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(output.status.success(), "{said}{}", String::from_utf8_lossy(&output.stderr));
    said
}

/// A count of operations in what the API tester said.
fn operations(said: &str, which: &str) -> u32 {
    let line = said.lines().find_map(|line| line.trim().strip_prefix(which)).unwrap();
    line.trim().split('/').next().unwrap().parse().unwrap()
}

#[test]
fn the_openapi_description_is_valid() {
    let written = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/openapi.json");
    run(Command::new(tester("openapi-spec-validator")).arg(written));
}

#[test]
fn responses_match_the_openapi_description() {
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    verax.run(&["namespace", "create", "ferrydesk/boards"]).done();
    let directory = tempfile::tempdir().unwrap();
    std::fs::write(directory.path().join("schemathesis.toml"), SETTINGS).unwrap();
    let said = run(Command::new(tester("schemathesis"))
        .current_dir(directory.path())
        .arg("run")
        .arg(format!("{}/openapi.json", verax.url()))
        .arg("--header")
        .arg(format!("Authorization: Bearer {}", verax.token()))
        .args(["--exclude-path-regex", LEFT_OUT])
        .args(CASES));
    // What its time was not enough for would pass otherwise.
    let tested = operations(&said, "Tested:");
    assert_eq!(tested, operations(&said, "Selected:"), "{said}");
    assert!(tested > 90 && said.contains("✅ Coverage"), "{said}");
}
