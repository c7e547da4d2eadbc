//! Reads and writes files of warm plans and schedules, in TOML.

use std::path::Path;

use verax_api::DefinitionFile;

use crate::failure::Failure;

/// Reads a file; `-` is standard input.
pub(super) fn read(file: &Path) -> Result<DefinitionFile, Failure> {
    let (name, text) = match file == Path::new("-") {
        true => ("standard input".to_owned(), std::io::read_to_string(std::io::stdin())),
        false => (file.display().to_string(), std::fs::read_to_string(file)),
    };
    let text = text.map_err(|e| Failure::usage(format!("{name}: {e}")))?;
    // The error shows the line and the column.
    let read: DefinitionFile =
        toml::from_str(&text).map_err(|e| Failure::usage(format!("{name}: {e}")))?;
    for path in read.plans.keys().chain(read.schedules.keys()) {
        DefinitionFile::split(path).map_err(|e| Failure::usage(format!("{name}: {e}")))?;
    }
    Ok(read)
}

/// The text of a file.
pub(super) fn text(file: &DefinitionFile) -> Result<String, Failure> {
    let text = toml::to_string_pretty(file).map_err(|e| Failure::failed(e.to_string()))?;
    Ok(text.trim_end().to_owned())
}
