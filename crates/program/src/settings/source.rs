//! The source of a setting's value, for error messages.

use verax_cli::Failure;

/// A value and its source.
#[derive(Debug, Clone)]
pub(super) struct Given {
    pub(super) text: String,
    pub(super) place: String,
}

/// The flag's value, else the variable's, else the file's.
pub(super) fn strongest(
    (flag, by_flag): (&str, Option<&str>),
    (variable, by_variable): (&str, Option<String>),
    in_file: Option<Given>,
) -> Option<Given> {
    let flag = by_flag.map(|text| Given { text: text.to_owned(), place: flag.to_owned() });
    let variable = || {
        by_variable
            .map(|text| Given { text, place: format!("the environment variable {variable}") })
    };
    flag.or_else(variable).or(in_file)
}

/// Parses a value; an error names its source.
pub(super) fn parse<T>(
    given: Option<Given>,
    read: impl FnOnce(&str) -> Result<T, String>,
) -> Result<Option<T>, Failure> {
    let Some(Given { text, place }) = given else { return Ok(None) };
    match read(&text) {
        Ok(value) => Ok(Some(value)),
        Err(reason) => Err(Failure::usage(format!("{place}: {text:?} is invalid: {reason}"))),
    }
}
