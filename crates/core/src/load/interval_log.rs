//! The latencies of a run as an HdrHistogram interval log, which other tools read.

use std::time::{Duration, SystemTime};

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use hdrhistogram::Histogram;
use hdrhistogram::serialization::interval_log::{IntervalLogWriterBuilder, Tag};
use hdrhistogram::serialization::{Deserializer, V2DeflateSerializer};

use super::recorder::InvalidRecorder;

/// The latencies of a lane within a tick.
#[derive(Debug, Clone, Copy)]
pub struct LoggedInterval<'a> {
    /// The lane.
    pub lane: &'a str,
    /// When the tick began, since the run started.
    pub begin: Duration,
    /// Its length.
    pub length: Duration,
    /// The latencies in microseconds: an HdrHistogram (encoding V2, compressed) in Base64.
    pub histogram: &'a str,
}

/// The log of a run that started at `start`, with the intervals in the order of time. Maxima are in
/// milliseconds, the histograms in microseconds.
///
/// # Errors
/// [`InvalidRecorder`] if a histogram cannot be read, or the name of a lane cannot be a tag.
pub fn interval_log<'a>(
    start: SystemTime,
    intervals: impl Iterator<Item = LoggedInterval<'a>>,
) -> Result<String, InvalidRecorder> {
    let wrong = |what: &dyn std::fmt::Display| InvalidRecorder::of(what);
    let (mut log, mut serializer) = (Vec::new(), V2DeflateSerializer::new());
    {
        let mut builder = IntervalLogWriterBuilder::new();
        builder
            .add_comment("latencies of a Verax load run in microseconds, one tag a lane")
            .with_start_time(start)
            .with_base_time(start)
            .with_max_value_divisor(1_000.0);
        let mut writer =
            builder.begin_log_with(&mut log, &mut serializer).map_err(|e| wrong(&e))?;
        for LoggedInterval { lane, begin, length, histogram } in intervals {
            let bytes = STANDARD.decode(histogram).map_err(|e| wrong(&e))?;
            let histogram: Histogram<u64> =
                Deserializer::new().deserialize(&mut bytes.as_slice()).map_err(|e| wrong(&e))?;
            let tag = Tag::new(lane).ok_or_else(|| wrong(&"a lane has a comma in its name"))?;
            let written = writer.write_histogram(&histogram, begin, length, Some(tag));
            written.map_err(|e| wrong(&format!("{e:?}")))?;
        }
    }
    String::from_utf8(log).map_err(|e| wrong(&e))
}

#[cfg(test)]
mod tests {
    use hdrhistogram::serialization::interval_log::{IntervalLogIterator, LogEntry};

    use super::super::outcome::{Outcome, ReadKind};
    use super::super::recorder::LaneRecorder;
    use super::*;

    #[test]
    fn a_log_is_read_back_by_its_own_format() {
        let mut recorder = LaneRecorder::default();
        for ms in [1, 2, 250] {
            let latency = Duration::from_millis(ms);
            recorder.record(latency, None, Outcome::Read(ReadKind::Hit));
        }
        let text = recorder.response_text();
        let second = Duration::from_secs(1);
        let interval =
            |begin| LoggedInterval { lane: "cached", begin, length: second, histogram: &text };
        let start = SystemTime::UNIX_EPOCH + Duration::from_secs(1_900_000_000);
        let log = interval_log(start, [interval(second), interval(second * 2)].into_iter());
        let log = log.unwrap();
        let entries: Result<Vec<_>, _> = IntervalLogIterator::new(log.as_bytes()).collect();
        let intervals = entries.unwrap().into_iter().filter_map(|entry| match entry {
            LogEntry::Interval(interval) => Some(interval),
            _ => None,
        });
        let intervals: Vec<_> = intervals.collect();
        assert_eq!(intervals.len(), 2, "{log}");
        assert_eq!(intervals[1].tag().map(|tag| tag.as_str()), Some("cached"));
        assert_eq!(intervals[1].start_timestamp(), second * 2);
        assert!((intervals[0].max() - 250.0).abs() < 0.5, "{}", intervals[0].max());
        let bytes = STANDARD.decode(intervals[0].encoded_histogram()).unwrap();
        let read: Histogram<u64> = Deserializer::new().deserialize(&mut bytes.as_slice()).unwrap();
        assert_eq!(read.len(), 3);
    }

    #[test]
    fn what_is_no_histogram_is_refused() {
        let interval = LoggedInterval {
            lane: "cached",
            begin: Duration::ZERO,
            length: Duration::ZERO,
            histogram: "AAAA",
        };
        assert!(interval_log(SystemTime::now(), [interval].into_iter()).is_err());
    }
}
