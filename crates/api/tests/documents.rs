//! The documents' tables of failures are those of the code. `VERAX_WRITE_DOCS=1` writes them.

#![allow(clippy::unwrap_used, clippy::expect_used)]

use std::fmt::Write;
use std::path::Path;

use verax_api::FailureKind;

const BEGIN: &str = "<!-- failures: generated -->\n";
const END: &str = "<!-- end -->";

fn check(document: &str, table: &str) {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs").join(document);
    let text = std::fs::read_to_string(&path).unwrap();
    let start = text.find(BEGIN).expect("the table's place") + BEGIN.len();
    let end = start + text[start..].find(END).expect("the table's end");
    if std::env::var_os("VERAX_WRITE_DOCS").is_some() {
        return std::fs::write(&path, format!("{}{table}{}", &text[..start], &text[end..]))
            .unwrap();
    }
    assert_eq!(&text[start..end], table, "{document}: run this test with VERAX_WRITE_DOCS=1");
}

#[test]
fn http_problems_are_documented() {
    let mut kinds = FailureKind::ALL.to_vec();
    kinds.sort_by_key(|kind| kind.status());
    let mut table = String::from("| name | status | meaning |\n|---|---|---|\n");
    for kind in kinds.iter().filter(|kind| **kind != FailureKind::UnsupportedVersion) {
        let (name, status, what) = (kind.name(), kind.status(), kind.description().trim());
        writeln!(table, "| `{name}` | {status} | {what} |").unwrap();
    }
    check("http-api.md", &table);
}

#[test]
fn wire_codes_are_documented() {
    let mut table = String::from("| code | name | meaning |\n|---|---|---|\n");
    for kind in FailureKind::ALL.iter().filter(|kind| kind.is_on_wire()) {
        let (code, name, what) = (kind.code(), kind.name(), kind.description().trim());
        writeln!(table, "| {code} | `{name}` | {what} |").unwrap();
    }
    check("wire-protocol.md", &table);
}
