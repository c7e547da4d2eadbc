//! The printed tables, which are those of docs/benchmarks.md.

use comfy_table::{CellAlignment, Table, presets};

/// An empty table with a header.
pub(crate) fn table<const N: usize>(titles: [&str; N]) -> Table {
    let mut table = Table::new();
    table.load_style(presets::ASCII_MARKDOWN);
    table.set_header(titles);
    table
}

/// The same table with some columns aligned to the right.
pub(crate) fn right_aligned(mut table: Table, columns: std::ops::Range<usize>) -> Table {
    for column in columns {
        if let Some(column) = table.column_mut(column) {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
    table
}
