//! Rows as JSON (RFC 8259).

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use mysql_async::consts::{ColumnFlags, ColumnType};
use mysql_async::{Column, Row, Value};

/// The character set number of binary data.
const BINARY: u16 = 63;

fn text(out: &mut Vec<u8>, text: &str) {
    // Writing text to memory cannot fail.
    let _ = serde_json::to_writer(out, text);
}

/// Appends a row as an object, with its columns in order.
pub(super) fn write_row(out: &mut Vec<u8>, row: &Row) {
    out.push(b'{');
    for (at, column) in row.columns_ref().iter().enumerate() {
        if at > 0 {
            out.push(b',');
        }
        text(out, &column.name_str());
        out.push(b':');
        write_value(out, column, row.as_ref(at).unwrap_or(&Value::NULL));
    }
    out.push(b'}');
}

fn write_value(out: &mut Vec<u8>, column: &Column, value: &Value) {
    let number = |out: &mut Vec<u8>, finite: bool, digits: String| match finite {
        true => out.extend_from_slice(digits.as_bytes()),
        false => out.extend_from_slice(b"null"),
    };
    match value {
        Value::NULL => out.extend_from_slice(b"null"),
        Value::Int(n) => out.extend_from_slice(n.to_string().as_bytes()),
        Value::UInt(n) => out.extend_from_slice(n.to_string().as_bytes()),
        Value::Float(n) => number(out, n.is_finite(), n.to_string()),
        Value::Double(n) => number(out, n.is_finite(), n.to_string()),
        Value::Bytes(bytes) => write_bytes(out, column, bytes),
        Value::Date(year, month, day, hour, minute, second, micros) => {
            let mut moment = format!("{year:04}-{month:02}-{day:02}");
            if column.column_type() != ColumnType::MYSQL_TYPE_DATE {
                moment += &format!("T{hour:02}:{minute:02}:{second:02}{}", fraction(*micros));
            }
            // The session's time zone is UTC; a DATETIME has none.
            if column.column_type() == ColumnType::MYSQL_TYPE_TIMESTAMP {
                moment.push('Z');
            }
            text(out, &moment);
        }
        Value::Time(negative, days, hours, minutes, seconds, micros) => {
            let sign = if *negative { "-" } else { "" };
            let hours = u64::from(*days) * 24 + u64::from(*hours);
            let micros = fraction(*micros);
            text(out, &format!("{sign}{hours:02}:{minutes:02}:{seconds:02}{micros}"));
        }
    }
}

fn fraction(micros: u32) -> String {
    match micros {
        0 => String::new(),
        micros => format!(".{micros:06}"),
    }
}

fn write_bytes(out: &mut Vec<u8>, column: &Column, bytes: &[u8]) {
    match column.column_type() {
        // Digits unchanged, so that no precision is lost.
        ColumnType::MYSQL_TYPE_DECIMAL | ColumnType::MYSQL_TYPE_NEWDECIMAL => {
            let plain = serde_json::from_slice::<serde_json::Number>(bytes).is_ok();
            match plain {
                true => out.extend_from_slice(bytes),
                false => text(out, &String::from_utf8_lossy(bytes)),
            }
        }
        ColumnType::MYSQL_TYPE_BIT => {
            let number = bytes.iter().fold(0u64, |n, byte| n << 8 | u64::from(*byte));
            out.extend_from_slice(number.to_string().as_bytes());
        }
        _ => {
            let binary = column.character_set() == BINARY
                && column.flags().contains(ColumnFlags::BINARY_FLAG);
            match std::str::from_utf8(bytes) {
                Ok(utf8) if !binary => text(out, utf8),
                _ => text(out, &BASE64.encode(bytes)),
            }
        }
    }
}
