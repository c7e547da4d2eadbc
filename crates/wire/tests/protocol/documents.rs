//! The tables of docs/wire-protocol.md are those of the code. `VERAX_WRITE_DOCS=1` writes them.

use std::fmt::Write;
use std::path::Path;

use verax_wire::{FieldShape, Needs, OPERATIONS, REPLIES};

const END: &str = "<!-- end -->";

fn check(marker: &str, table: &str) {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/wire-protocol.md");
    let text = std::fs::read_to_string(&path).unwrap();
    let begin = format!("<!-- {marker}: generated -->\n");
    let start = text.find(&begin).expect("the table's place") + begin.len();
    let end = start + text[start..].find(END).expect("the table's end");
    if std::env::var_os("VERAX_WRITE_DOCS").is_some() {
        return std::fs::write(&path, format!("{}{table}{}", &text[..start], &text[end..]))
            .unwrap();
    }
    assert_eq!(&text[start..end], table, "run this test with VERAX_WRITE_DOCS=1");
}

fn or_dash(parts: Vec<String>) -> String {
    if parts.is_empty() { "–".into() } else { parts.join(", ") }
}

fn words(name: &str) -> String {
    name.replace('_', " ")
}

fn flags(fields: &[FieldShape]) -> String {
    let named = fields.iter().flat_map(|field| field.flags.iter().map(move |flag| (field, flag)));
    or_dash(
        named
            .map(|(field, (bit, name))| match *name {
                "" => format!("{bit} {}", words(field.name)),
                name => format!("{bit} {name}"),
            })
            .collect(),
    )
}

fn body(fields: &[FieldShape]) -> String {
    let parts = fields.iter().filter(|field| !field.shape.is_empty()).map(|field| {
        let flag = field.flags.first().filter(|(_, name)| name.is_empty());
        match (flag, field.shape) {
            (Some((bit, _)), shape) => format!("{} ({shape}, flag {bit})", words(field.name)),
            // What describes itself has several parts, or says what it is.
            (None, shape) if shape.contains('(') || shape == "tags" => shape.to_owned(),
            (None, shape) => format!("{} ({shape})", words(field.name)),
        }
    });
    or_dash(parts.collect())
}

fn requests() -> String {
    let mut table = String::from(
        "| kind | name | right | flags | body | replies |\n|---|---|---|---|---|---|\n",
    );
    for row in OPERATIONS {
        let right = match row.needs {
            Needs::Nothing => "–".to_owned(),
            Needs::One(right) => right.name().to_owned(),
            Needs::Either(one, other) => format!("{} or {}", one.name(), other.name()),
            Needs::ReadAndWrite => "read and write".to_owned(),
            Needs::OfItsParts => "that of each part".to_owned(),
        };
        let replies = or_dash(row.replies.iter().map(|name| (*name).to_owned()).collect());
        let (kind, name) = (row.kind, row.name);
        let (flags, body) = (flags(row.fields), body(row.fields));
        writeln!(table, "| {kind:#04x} | {name} | {right} | {flags} | {body} | {replies} |")
            .unwrap();
    }
    table
}

fn replies() -> String {
    let mut table = String::from("| kind | name | flags | body |\n|---|---|---|---|\n");
    for row in REPLIES {
        let (flags, body) = (flags(row.fields), body(row.fields));
        writeln!(table, "| {:#04x} | {} | {flags} | {body} |", row.kind, row.name).unwrap();
    }
    table
}

#[test]
fn the_tables_are_documented() {
    // One after the other: both are in one document.
    check("requests", &requests());
    check("replies", &replies());
}

#[test]
fn replies_named_by_requests_exist() {
    for row in OPERATIONS {
        for reply in row.replies {
            assert!(REPLIES.iter().any(|known| known.name == *reply), "{}: {reply}", row.name);
        }
    }
}
