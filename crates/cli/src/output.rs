//! What a command prints: a table for people, JSON for programs.

use std::io::{IsTerminal, Write};

use comfy_table::{Attribute, Cell, CellAlignment, ContentArrangement, Table, presets};
use serde::Serialize;

use crate::failure::Failure;
use crate::text::printable;

/// Where a command's answer goes.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Output {
    /// Whether to answer with JSON.
    pub(crate) json: bool,
}

impl Output {
    /// Prints a line on standard output, with terminal control sequences escaped.
    pub(crate) fn line(self, text: impl AsRef<str>) -> Result<(), Failure> {
        self.bytes(printable(text.as_ref()).as_bytes())?;
        self.bytes(b"\n")
    }

    /// Prints bytes on standard output; a closed pipe is not an error.
    pub(crate) fn bytes(self, bytes: &[u8]) -> Result<(), Failure> {
        let mut out = std::io::stdout().lock();
        match out.write_all(bytes).and_then(|()| out.flush()) {
            Err(e) if e.kind() != std::io::ErrorKind::BrokenPipe => Err(e.into()),
            _ => Ok(()),
        }
    }

    /// Prints a remark on standard error, out of a program's way.
    pub(crate) fn remark(self, text: impl AsRef<str>) {
        if !self.json {
            // In one go, so that nothing another process writes to the terminal comes in between.
            let line = format!("{}\n", printable(text.as_ref()));
            let _ = std::io::stderr().write_all(line.as_bytes());
        }
    }

    /// Prints a value as JSON.
    pub(crate) fn json(self, value: &impl Serialize) -> Result<(), Failure> {
        let text =
            serde_json::to_string_pretty(value).map_err(|e| Failure::failed(e.to_string()))?;
        self.line(text)
    }

    /// Prints a value as JSON, or what `people` makes of it.
    pub(crate) fn answer<T: Serialize>(
        self,
        value: &T,
        people: impl FnOnce(&T) -> String,
    ) -> Result<(), Failure> {
        if self.json { self.json(value) } else { self.line(people(value)) }
    }
}

/// Whether standard output is a terminal.
pub(crate) fn on_terminal() -> bool {
    std::io::stdout().is_terminal()
}

/// A table with a header. Columns whose titles start with `>` are aligned to the right.
pub(crate) fn table(titles: &[&str], rows: impl IntoIterator<Item = Vec<String>>) -> String {
    let mut table = Table::new();
    table.load_style(presets::NOTHING).set_content_arrangement(ContentArrangement::Dynamic);
    table.set_header(titles.iter().map(|title| {
        let cell = Cell::new(title.trim_start_matches('>'));
        if on_terminal() { cell.add_attribute(Attribute::Bold) } else { cell }
    }));
    for row in rows {
        table.add_row(row);
    }
    for (column, title) in table.column_iter_mut().zip(titles) {
        column.set_padding((0, 2));
        if title.starts_with('>') {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
    let lines = table.to_string();
    lines.lines().map(str::trim_end).collect::<Vec<_>>().join("\n")
}

/// Asks before something is lost. Without a terminal there is nobody to ask.
pub(crate) fn confirm(yes: bool, what: &str) -> Result<(), Failure> {
    if yes {
        return Ok(());
    }
    if !std::io::stdin().is_terminal() {
        return Err(Failure::usage(format!("{what}: add --yes to do it without being asked")));
    }
    let mut err = std::io::stderr().lock();
    write!(err, "{what}. Go on? [y/N] ")?;
    err.flush()?;
    let mut answer = String::new();
    std::io::stdin().read_line(&mut answer)?;
    match answer.trim() {
        "y" | "Y" | "yes" => Ok(()),
        _ => Err(Failure::usage("nothing was changed")),
    }
}
