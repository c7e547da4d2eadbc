//! Counting the requests of a lane. Histograms of different seconds and processes merge exactly.

use std::time::Duration;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use hdrhistogram::Histogram;
use hdrhistogram::serialization::{Deserializer, Serializer, V2DeflateSerializer, V2Serializer};
use serde::{Deserialize, Serialize};

use super::limits::MAX_REQUESTS;
use super::outcome::{ErrorKind, Outcome, ReadKind};

/// The longest latency that a histogram tells from longer ones, in microseconds: ten minutes.
const MAX_MICROS: u64 = 600_000_000;

/// Counts the requests of one lane over one interval.
#[derive(Debug, Clone)]
pub struct LaneRecorder {
    /// From when a request was due, or sent in a closed loop, to the response.
    response: Histogram<u64>,
    /// From when it was sent, in an open loop.
    from_send: Histogram<u64>,
    counts: LaneCounts,
}

/// What a recorder counts beside latencies.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
struct LaneCounts {
    failed: [u64; ErrorKind::ALL.len()],
    hits: u64,
    from_origin: u64,
    joined: u64,
    written: u64,
}

/// A recorder as text, exactly as it is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RecordedLane {
    /// The latencies: an HdrHistogram (encoding V2) in Base64.
    response: String,
    /// The latencies from when requests were sent; absent in a closed loop.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    from_send: Option<String>,
    counts: LaneCounts,
}

/// A recorder cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("the figures of a lane cannot be read: {0}")]
pub struct InvalidRecorder(String);

impl InvalidRecorder {
    pub(super) fn of(what: &dyn std::fmt::Display) -> Self {
        Self(what.to_string())
    }
}

/// Percentiles of latencies, in milliseconds; `None` without any.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Percentiles {
    /// Mean.
    pub mean_ms: Option<f64>,
    /// Median.
    pub p50_ms: Option<f64>,
    /// 90th percentile.
    pub p90_ms: Option<f64>,
    /// 99th percentile.
    pub p99_ms: Option<f64>,
    /// 99.9th percentile.
    pub p999_ms: Option<f64>,
    /// The slowest.
    pub max_ms: Option<f64>,
}

/// The figures of one lane over one interval. Latencies are in milliseconds, as the client saw
/// them, over successful requests; they are `None` when there were none.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LaneFigures {
    /// Requests sent and ended, failed ones included.
    pub requests: u64,
    /// Requests that failed.
    pub errors: u64,
    /// Successful requests per second.
    pub per_second: f64,
    /// Mean latency.
    pub mean_ms: Option<f64>,
    /// Median latency.
    pub p50_ms: Option<f64>,
    /// 90th percentile.
    pub p90_ms: Option<f64>,
    /// 99th percentile.
    pub p99_ms: Option<f64>,
    /// 99.9th percentile.
    pub p999_ms: Option<f64>,
    /// The slowest request.
    pub max_ms: Option<f64>,
    /// Successful reads that were hits, 0 to 1; `None` in a lane without a cache and when nothing
    /// was read.
    pub hit_ratio: Option<f64>,
    /// Reads of the origin that this lane caused.
    pub origin_calls: u64,
    /// Successful writes and invalidations.
    #[serde(default)]
    pub writes: u64,
}

/// A place on the percentile axis.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct PercentilePoint {
    /// The percentile.
    pub percentile: f64,
    /// The latency that so many percent of the requests did not exceed, in milliseconds.
    pub ms: f64,
}

fn new_histogram() -> Histogram<u64> {
    // One microsecond to ten minutes, to three digits; bounds that are always valid.
    Histogram::new_with_bounds(1, MAX_MICROS, 3)
        .unwrap_or_else(|_| unreachable!("constant bounds are valid"))
}

/// Where a written histogram has its precision and its bounds (encoding V2: a cookie and a length
/// of four bytes each come before, the ratio of conversion after).
const BOUNDS: std::ops::Range<usize> = 8..32;

/// The precision and bounds of the histograms here, as they are written.
fn own_bounds() -> Option<Vec<u8>> {
    let mut bytes = Vec::new();
    V2Serializer::new().serialize(&new_histogram(), &mut bytes).ok()?;
    bytes.get(BOUNDS).map(<[u8]>::to_vec)
}

impl Default for LaneRecorder {
    fn default() -> Self {
        let counts = LaneCounts::default();
        Self { response: new_histogram(), from_send: new_histogram(), counts }
    }
}

fn micros(latency: Duration) -> u64 {
    u64::try_from(latency.as_micros()).unwrap_or(u64::MAX).max(1)
}

fn percentiles(histogram: &Histogram<u64>) -> Percentiles {
    let ms = |micros: f64| (!histogram.is_empty()).then_some(micros / 1_000.0);
    let quantile = |q| ms(histogram.value_at_quantile(q) as f64);
    Percentiles {
        mean_ms: ms(histogram.mean()),
        p50_ms: quantile(0.5),
        p90_ms: quantile(0.9),
        p99_ms: quantile(0.99),
        p999_ms: quantile(0.999),
        max_ms: ms(histogram.max() as f64),
    }
}

impl LaneRecorder {
    /// Counts one request. `response` is from when it was due, or sent in a closed loop;
    /// `from_send`, in an open loop, is from when it was sent.
    pub fn record(&mut self, response: Duration, from_send: Option<Duration>, outcome: Outcome) {
        match outcome {
            Outcome::Failed(kind) => return self.counts.failed[kind as usize] += 1,
            Outcome::Read(ReadKind::Hit) => self.counts.hits += 1,
            Outcome::Read(ReadKind::Origin) => self.counts.from_origin += 1,
            Outcome::Read(ReadKind::Joined) => self.counts.joined += 1,
            Outcome::Written => self.counts.written += 1,
        }
        self.response.saturating_record(micros(response));
        if let Some(from_send) = from_send {
            self.from_send.saturating_record(micros(from_send));
        }
    }

    /// How many requests succeeded.
    pub fn succeeded(&self) -> u64 {
        self.response.len()
    }

    /// How many requests failed.
    pub fn failed(&self) -> u64 {
        self.counts.failed.iter().sum()
    }

    /// How many requests failed for a reason.
    pub fn failed_by(&self, kind: ErrorKind) -> u64 {
        self.counts.failed[kind as usize]
    }

    /// Whether nothing was counted.
    pub fn is_empty(&self) -> bool {
        self.succeeded() + self.failed() == 0
    }

    /// Forgets what was counted.
    pub fn reset(&mut self) {
        self.response.reset();
        self.from_send.reset();
        self.counts = LaneCounts::default();
    }

    /// Adds the requests that `other` counted.
    pub fn add(&mut self, other: &LaneRecorder) {
        // All have the same bounds, so adding cannot fail.
        let added = self.response.add(&other.response);
        debug_assert!(added.is_ok());
        let added = self.from_send.add(&other.from_send);
        debug_assert!(added.is_ok());
        let (counts, more) = (&mut self.counts, &other.counts);
        counts.failed.iter_mut().zip(more.failed).for_each(|(sum, more)| *sum += more);
        counts.hits += more.hits;
        counts.from_origin += more.from_origin;
        counts.joined += more.joined;
        counts.written += more.written;
    }

    /// The figures over `elapsed`; `is_cached` tells whether hits are meaningful for this lane.
    pub fn figures(&self, elapsed: Duration, is_cached: bool) -> LaneFigures {
        let LaneCounts { hits, from_origin, joined, written, .. } = self.counts;
        let reads = hits + from_origin + joined;
        let Percentiles { mean_ms, p50_ms, p90_ms, p99_ms, p999_ms, max_ms } =
            percentiles(&self.response);
        LaneFigures {
            requests: self.succeeded() + self.failed(),
            errors: self.failed(),
            per_second: self.succeeded() as f64 / elapsed.as_secs_f64().max(1e-9),
            mean_ms,
            p50_ms,
            p90_ms,
            p99_ms,
            p999_ms,
            max_ms,
            hit_ratio: (is_cached && reads > 0).then(|| hits as f64 / reads as f64),
            origin_calls: from_origin,
            writes: written,
        }
    }

    /// Latencies from when requests were sent; `None` in a closed loop, where a request is due when
    /// it is sent.
    pub fn from_send(&self) -> Option<Percentiles> {
        (!self.from_send.is_empty()).then(|| percentiles(&self.from_send))
    }

    /// The latencies of a closed loop corrected for coordinated omission: while a client waited
    /// longer than its usual distance between requests, further requests would have been due, and
    /// would have waited for the rest. The usual distance is the mean latency with `think_time`.
    pub fn corrected(&self, think_time: Duration) -> Percentiles {
        let distance = self.response.mean() as u64 + micros(think_time);
        percentiles(&self.response.clone_correct(distance.max(1)))
    }

    /// The distribution of the latencies up to the slowest, denser towards it.
    pub fn curve(&self) -> Vec<PercentilePoint> {
        if self.response.is_empty() {
            return Vec::new();
        }
        let point = |tail: f64| {
            let micros = self.response.value_at_quantile(1.0 - tail);
            PercentilePoint { percentile: 100.0 * (1.0 - tail), ms: micros as f64 / 1_000.0 }
        };
        // Each point has a tail of 0.75 of the one before, until it is a single request.
        let smallest = 1.0 / self.response.len() as f64;
        let tails = std::iter::successors(Some(1.0), |tail| Some(tail * 0.75));
        let mut points: Vec<_> = tails.take_while(|tail| *tail >= smallest).map(point).collect();
        let slowest = self.response.max() as f64 / 1_000.0;
        points.push(PercentilePoint { percentile: 100.0, ms: slowest });
        points
    }

    /// The latencies as they are exported: an HdrHistogram (encoding V2, compressed) in Base64.
    pub fn response_text(&self) -> String {
        let mut bytes = Vec::new();
        // Writing to memory does not fail.
        let written = V2DeflateSerializer::new().serialize(&self.response, &mut bytes);
        debug_assert!(written.is_ok());
        STANDARD.encode(bytes)
    }

    /// The recorder as text.
    pub fn to_text(&self) -> RecordedLane {
        let text = |histogram: &Histogram<u64>| {
            let mut bytes = Vec::new();
            // Writing to memory does not fail.
            let written = V2Serializer::new().serialize(histogram, &mut bytes);
            debug_assert!(written.is_ok());
            STANDARD.encode(bytes)
        };
        RecordedLane {
            response: text(&self.response),
            from_send: (!self.from_send.is_empty()).then(|| text(&self.from_send)),
            counts: self.counts,
        }
    }

    /// Reads a recorder back.
    ///
    /// # Errors
    /// [`InvalidRecorder`] if it is not one of [`to_text`](Self::to_text).
    pub fn from_text(text: &RecordedLane) -> Result<Self, InvalidRecorder> {
        let wrong = |what: &str| InvalidRecorder(what.to_owned());
        let read = |text: &str| {
            let bytes = STANDARD.decode(text).map_err(|e| wrong(&e.to_string()))?;
            // Other bounds could take any amount of memory.
            if bytes.get(BOUNDS) != own_bounds().as_deref() {
                return Err(wrong("its histogram has other bounds"));
            }
            let read = Deserializer::new().deserialize::<u64, _>(&mut bytes.as_slice());
            let read = read.map_err(|e| wrong(&e.to_string()))?;
            let mut histogram = new_histogram();
            histogram.add(&read).map_err(|e| wrong(&e.to_string()))?;
            Ok(histogram)
        };
        let from_send = text.from_send.as_deref().map_or_else(|| Ok(new_histogram()), read)?;
        let recorder = Self { response: read(&text.response)?, from_send, counts: text.counts };
        let LaneCounts { hits, from_origin, joined, written, .. } = recorder.counts;
        let sum = |counts: &[u64]| counts.iter().copied().try_fold(0, u64::checked_add);
        let succeeded = sum(&[hits, from_origin, joined, written]);
        let failed = sum(&recorder.counts.failed);
        if succeeded != Some(recorder.succeeded()) {
            return Err(wrong("its counts do not add up"));
        }
        match failed.and_then(|failed| failed.checked_add(recorder.succeeded())) {
            Some(requests) if requests <= MAX_REQUESTS => Ok(recorder),
            _ => Err(wrong("it has more requests than a run may have")),
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const HIT: Outcome = Outcome::Read(ReadKind::Hit);
    const FROM_ORIGIN: Outcome = Outcome::Read(ReadKind::Origin);
    const SECOND: Duration = Duration::from_secs(1);

    fn lane(micros: impl Iterator<Item = u64>, outcome: Outcome) -> LaneRecorder {
        let mut recorder = LaneRecorder::default();
        micros.for_each(|n| recorder.record(Duration::from_micros(n), None, outcome));
        recorder
    }

    #[test]
    fn figures_come_from_every_successful_request() {
        let mut recorder = lane(1..=1_000, HIT);
        recorder.record(Duration::from_micros(50_000), None, FROM_ORIGIN);
        recorder.record(Duration::from_micros(500), None, Outcome::Written);
        recorder.record(Duration::from_secs(5), None, Outcome::Failed(ErrorKind::Timeout));
        let figures = recorder.figures(Duration::from_secs(2), true);
        assert_eq!((figures.requests, figures.errors, figures.origin_calls), (1_003, 1, 1));
        assert_eq!((figures.writes, recorder.failed_by(ErrorKind::Timeout)), (1, 1));
        assert!((figures.per_second - 501.0).abs() < 1e-9);
        assert!((figures.p50_ms.unwrap() - 0.501).abs() < 0.002, "{figures:?}");
        assert!((figures.max_ms.unwrap() - 50.0).abs() < 0.1);
        assert!((figures.hit_ratio.unwrap() - 1_000.0 / 1_001.0).abs() < 1e-9);
    }

    #[test]
    fn without_reads_there_is_no_latency_and_no_ratio() {
        let failed = lane(1..=3, Outcome::Failed(ErrorKind::Other)).figures(SECOND, true);
        assert_eq!((failed.p50_ms, failed.hit_ratio, failed.errors), (None, None, 3));
        assert_eq!(lane(1..=3, FROM_ORIGIN).figures(SECOND, false).hit_ratio, None);
        assert!(LaneRecorder::default().is_empty());
    }

    #[test]
    fn a_stall_of_two_seconds_is_corrected_in_full() {
        // 2,000 requests of 1 ms each, then one that stalls for 2 s.
        let mut recorder = lane(std::iter::repeat_n(1_000, 2_000), HIT);
        recorder.record(Duration::from_secs(2), None, HIT);
        let raw = recorder.figures(SECOND, true);
        assert!(raw.p99_ms.unwrap() < 1.1 && raw.max_ms.unwrap() >= 1_999.0);
        // Half of the time was the stall, so half of the requests that were due waited in it.
        let corrected = recorder.corrected(Duration::ZERO);
        assert!(corrected.p99_ms.unwrap() > 1_900.0, "{corrected:?}");
        assert!(
            (900.0..1_100.0).contains(&corrected.p90_ms.unwrap().min(1_050.0)),
            "{corrected:?}"
        );
    }

    #[test]
    fn the_curve_ends_at_the_slowest_request() {
        let mut recorder = lane(std::iter::repeat_n(1_000, 999), HIT);
        recorder.record(SECOND, None, HIT);
        let curve = recorder.curve();
        let last = curve.last().unwrap();
        assert!(last.percentile == 100.0 && (last.ms - 1_000.0).abs() < 1.0, "{last:?}");
        assert!(curve.windows(2).all(|two| two[0].percentile < two[1].percentile));
        assert!(curve.windows(2).all(|two| two[0].ms <= two[1].ms) && curve.len() < 40);
        assert!(LaneRecorder::default().curve().is_empty());
    }

    proptest! {
        #[test]
        fn parts_merge_exactly_also_as_text(
            latencies in prop::collection::vec((1u64..2_000_000, 0usize..4), 1..200),
            parts in 1usize..5,
        ) {
            let outcomes =
                [HIT, FROM_ORIGIN, Outcome::Written, Outcome::Failed(ErrorKind::Refused)];
            let (mut whole, mut split) =
                (LaneRecorder::default(), vec![LaneRecorder::default(); parts]);
            for (number, (micros, outcome)) in latencies.into_iter().enumerate() {
                let latency = Duration::from_micros(micros);
                for recorder in [&mut whole, &mut split[number % parts]] {
                    recorder.record(latency * 2, Some(latency), outcomes[outcome]);
                }
            }
            let mut merged = LaneRecorder::default();
            for part in &split {
                merged.add(&LaneRecorder::from_text(&part.to_text()).unwrap());
            }
            prop_assert_eq!(merged.to_text(), whole.to_text());
            prop_assert_eq!(merged.figures(SECOND, true), whole.figures(SECOND, true));
            prop_assert_eq!(merged.from_send(), whole.from_send());
        }
    }

    #[test]
    fn text_that_is_no_recorder_is_refused() {
        let text = lane(1..=3, HIT).to_text();
        for damaged in [
            RecordedLane { response: "?".into(), ..text.clone() },
            RecordedLane { response: "AAAA".into(), ..text.clone() },
            RecordedLane { counts: LaneCounts { hits: 4, ..text.counts }, ..text.clone() },
            RecordedLane {
                counts: LaneCounts { hits: u64::MAX, joined: 4, ..text.counts },
                ..text.clone()
            },
        ] {
            assert!(LaneRecorder::from_text(&damaged).is_err(), "{damaged:?}");
        }
    }
}
