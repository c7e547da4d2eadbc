//! Reads files of load profiles: TOML, or JSON.

use std::path::Path;

use toml::Spanned;
use toml::de::{DeTable, DeValue};
use verax_api::LoadProfileSpec;

use crate::failure::Failure;

/// Reads a load profile, as TOML, or as JSON if the file's name ends so.
///
/// # Errors
/// [`Failure`], with the line and column of the fault.
pub fn read_profile(path: &Path) -> Result<LoadProfileSpec, Failure> {
    let shown = path.display().to_string();
    let text = std::fs::read_to_string(path);
    let text = text.map_err(|e| Failure::usage(format!("{shown}: {e}")))?;
    let is_json = path.extension().is_some_and(|extension| extension == "json");
    parse(&text, is_json).map_err(|why| Failure::usage(format!("the load profile {shown}{why}")))
}

/// The profile of a text, or what is wrong with it, and where.
fn parse(text: &str, is_json: bool) -> Result<LoadProfileSpec, String> {
    let spec: LoadProfileSpec = match is_json {
        // The message has the line and the column.
        true => serde_json::from_str(text).map_err(|e| format!(": {e}"))?,
        false => toml::from_str(text).map_err(|error| {
            let place = error.span().map(|span| position(text, span.start)).unwrap_or_default();
            format!("{place}: {}", error.message())
        })?,
    };
    match spec.profile() {
        Ok(_) => Ok(spec),
        Err(fault) => {
            let place = (!is_json).then(|| place_of(text, fault.paths())).flatten();
            Err(format!("{}: {fault}", place.unwrap_or_default()))
        }
    }
}

/// The line and column of a byte, as a suffix of a file's name.
fn position(text: &str, byte: usize) -> String {
    let before = text.get(..byte).unwrap_or(text);
    let line = 1 + before.matches('\n').count();
    let column = 1 + before.rsplit('\n').next().unwrap_or_default().chars().count();
    format!(":{line}:{column}")
}

/// The place of the first of some members that a text has.
fn place_of(text: &str, paths: &[&str]) -> Option<String> {
    let document = DeTable::parse(text).ok()?;
    let found = paths.iter().find_map(|path| find(document.get_ref(), path));
    found.map(|byte| position(text, byte))
}

/// Where the value of a member begins.
fn find(table: &DeTable<'_>, path: &str) -> Option<usize> {
    let (name, rest) = match path.split_once('.') {
        Some((name, rest)) => (name, Some(rest)),
        None => (path, None),
    };
    let (_, value): (_, &Spanned<DeValue<'_>>) =
        table.iter().find(|(key, _)| key.get_ref() == name)?;
    match (rest, value.get_ref()) {
        (None, _) => Some(value.span().start),
        (Some(rest), DeValue::Table(inner)) => find(inner, rest),
        (Some(_), _) => None,
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const HEAD: &str = "name = \"rush\"\nnamespace = \"ferrydesk/boards\"\n";

    #[rstest]
    #[case("users = 3\n", ":3:1", "users")]
    #[case("duration_seconds = \"long\"\n", ":3:20", "expected f64")]
    #[case("seed = \n", ":3:8", "")]
    #[case("[arrivals]\nclients = 0\n", ":4:11", "clients = 0 is out of range")]
    #[case("[arrivals]\nclients = 2\nrate = 7\n", ":5:8", "clients and rate")]
    #[case("duration_seconds = 0\n", ":3:20", "measure at least 1 second")]
    #[case("[[goals]]\nlane = \"cold\"\np99_ms = 3\n", ":3", "which the profile does not have")]
    #[case("[steps]\nlevels = [1, 0]\neach_seconds = 3\n", ":4:10", "clients = 0")]
    #[case("[mix]\nput_percent = 3\n", ":4:15", "writes_allowed")]
    fn faults_have_their_place(#[case] more: &str, #[case] place: &str, #[case] why: &str) {
        let fault = parse(&format!("{HEAD}{more}"), false).unwrap_err();
        assert!(fault.starts_with(place) && fault.contains(why), "{fault}");
    }

    #[test]
    fn json_is_read_too() {
        let json = r#"{ "name": "rush", "namespace": "ferrydesk/boards" }"#;
        assert_eq!(parse(json, true), parse(HEAD, false));
        assert!(parse("{", true).unwrap_err().contains("line 1 column 1"));
    }
}
