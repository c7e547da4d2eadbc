//! Numbers formatted for people, each with its unit.

use std::time::Duration;

/// A count with thousands apart: `12,345`.
pub(crate) fn count(number: u64) -> String {
    let digits = number.to_string();
    let mut text = String::with_capacity(digits.len() + digits.len() / 3);
    for (at, digit) in digits.chars().enumerate() {
        if at > 0 && (digits.len() - at).is_multiple_of(3) {
            text.push(',');
        }
        text.push(digit);
    }
    text
}

/// A count of things: `1 report`, `1,204 reports`.
pub(crate) fn number_of(number: u64, one: &str, many: &str) -> String {
    format!("{} {}", count(number), if number == 1 { one } else { many })
}

/// A rate: `3,120/s`, `4.2/s`.
pub(crate) fn rate(per_second: f64) -> String {
    if per_second >= 100.0 {
        format!("{}/s", count(per_second.round() as u64))
    } else {
        format!("{per_second:.1}/s")
    }
}

/// Milliseconds with three significant digits: `0.614 ms`, `57.3 ms`, `1,204 ms`.
pub(crate) fn milliseconds(ms: f64) -> String {
    match ms {
        ms if ms >= 1_000.0 => format!("{} ms", count(ms.round() as u64)),
        ms if ms >= 100.0 => format!("{ms:.0} ms"),
        ms if ms >= 10.0 => format!("{ms:.1} ms"),
        ms if ms >= 1.0 => format!("{ms:.2} ms"),
        ms => format!("{ms:.3} ms"),
    }
}

/// The same of something that may be absent.
pub(crate) fn milliseconds_or_none(ms: Option<f64>) -> String {
    ms.map_or_else(|| "–".into(), milliseconds)
}

/// A share: `99.8 %`.
pub(crate) fn share(ratio: Option<f64>) -> String {
    ratio.map_or_else(|| "–".into(), |r| format!("{:.1} %", r * 100.0))
}

/// How many times: `94×`, `3.1×`.
pub(crate) fn times(ratio: Option<f64>) -> String {
    match ratio {
        None => "–".into(),
        Some(r) if r >= 20.0 => format!("{}×", count(r.round() as u64)),
        Some(r) => format!("{r:.1}×"),
    }
}

/// Bytes in binary units: `1.2 KiB`.
pub(crate) fn bytes(number: u64) -> String {
    bytesize::ByteSize(number).display().iec().to_string()
}

/// Bytes, or a dash where there is no number.
pub(crate) fn bytes_or_none(number: Option<u64>) -> String {
    number.map_or_else(|| "–".to_owned(), bytes)
}

/// The longest max-age that there is, ten years: as good as no limit.
const UNLIMITED: u64 = 315_360_000;

/// A time in its two largest units: `2h 5m`, `27s`.
pub(crate) fn time(length: Duration) -> String {
    let seconds = length.as_secs();
    if seconds >= UNLIMITED {
        return "unlimited".to_owned();
    }
    match (seconds / 86_400, seconds / 3_600 % 24, seconds / 60 % 60, seconds % 60) {
        (0, 0, 0, s) => format!("{s}s"),
        (0, 0, m, s) => format!("{m}m {s}s"),
        (0, h, m, _) => format!("{h}h {m}m"),
        (d, h, _, _) => format!("{d}d {h}h"),
    }
}

/// Seconds until stale, in words: `27s left`, `stale for 3s`.
pub(crate) fn time_left(seconds: f64) -> String {
    let length = Duration::from_secs_f64(seconds.abs());
    if seconds < 0.0 {
        format!("stale for {}", time(length))
    } else {
        format!("{} left", time(length))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_formatted_for_people() {
        assert_eq!([count(7), count(1_234), count(1_234_567)], ["7", "1,234", "1,234,567"]);
        let entries = |number| number_of(number, "entry", "entries");
        assert_eq!([0, 1, 1_204].map(entries), ["0 entries", "1 entry", "1,204 entries"]);
        assert_eq!([rate(4.21), rate(3_120.4)], ["4.2/s", "3,120/s"]);
        assert_eq!(milliseconds(0.6144), "0.614 ms");
        assert_eq!([milliseconds(57.31), milliseconds(1_204.4)], ["57.3 ms", "1,204 ms"]);
        assert_eq!([share(None), share(Some(0.998))], ["–", "99.8 %"]);
        assert_eq!([times(Some(93.7)), times(Some(2.52))], ["94×", "2.5×"]);
        assert_eq!(bytes(1_234), "1.2 KiB");
        assert_eq!(time(Duration::from_secs(7_505)), "2h 5m");
        assert_eq!(time(Duration::from_secs(UNLIMITED - 1)), "3649d 23h");
        assert_eq!(time(Duration::from_secs(UNLIMITED)), "unlimited");
        assert_eq!([time_left(27.4), time_left(-3.2)], ["27s left", "stale for 3s"]);
    }
}
