//! Recordings of a namespace's traffic, and the traffic of one, to be replayed.

use std::collections::HashMap;
use std::ops::RangeInclusive;
use std::sync::Arc;
use std::time::Duration;

use verax_api::{RecordTraffic, RecordingPart, TrafficRecording, moment};
use verax_core::Timestamp;
use verax_core::access::{Right, Scope};
use verax_core::load::{RecordedRead, RecordedReads};
use verax_core::store::RecordedTraffic;
use verax_core::warm::MAX_KEYS;
use verax_engine::{Reader, TrafficRecorder};
use verax_records::{RunKind, RunState};

use super::lifecycle::{NewLife, RunEnd};
use super::load::place_of;
use super::table::{RunOf, Watched};
use crate::access::Caller;
use crate::control::Control;
use crate::error::{Conflict, ControlError};
use crate::invalid::InvalidInput;
use crate::subject::Subject;

/// How long a recording may be.
pub const RECORDING_LENGTHS: RangeInclusive<Duration> =
    Duration::from_secs(1)..=Duration::from_secs(3_600);

/// The most reads of a recording.
const MAX_READS: u64 = 2_000_000;

/// The most bytes of all its keys together.
const MAX_KEY_TEXT: usize = 64 << 20;

/// How often what was recorded is taken.
const TAKE_EVERY: Duration = Duration::from_millis(200);

/// The most reads of a part: with distances and indexes of five bytes each it can be recorded.
const PART_READS: usize = 4_000;

/// The most bytes of the keys of a part, but for the last key.
const PART_KEY_TEXT: usize = 20_000;

/// Traffic that was recorded, with its keys by their indexes.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Replayed {
    pub(super) keys: Vec<String>,
    pub(super) are_hashed: bool,
    pub(super) reads: RecordedReads,
}

impl Control {
    /// Records the traffic of a namespace for a while. A namespace has one recording at a time.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, the namespace, the length, an active recording, or the records.
    pub async fn record_traffic(
        self: &Arc<Self>,
        caller: &Caller,
        request: &RecordTraffic,
    ) -> Result<Arc<Watched<TrafficRecording>>, ControlError> {
        let (tenant, name) = place_of(&request.namespace)?;
        caller.needs(Scope::within(Right::Load, &tenant, &name))?;
        let namespace = self.registry.namespace(&tenant, &name)?;
        let seconds = request.seconds;
        let length = Duration::try_from_secs_f64(seconds).ok();
        let length =
            length.filter(|length| RECORDING_LENGTHS.contains(length)).ok_or_else(|| {
                let max = RECORDING_LENGTHS.end().as_secs();
                InvalidInput::RecordingLength { seconds, max }
            })?;
        let reader = Reader::open(Arc::clone(namespace.namespace()));
        let recorder = reader.record_traffic().ok_or(Conflict::RecordingActive)?;
        let began = self.engine.now();
        let run = TrafficRecording {
            id: 0,
            namespace: namespace.path(),
            state: RunState::Running.name().into(),
            started_at: moment(began),
            reason: None,
            asked_seconds: seconds,
            seconds: 0.0,
            hash_keys: request.hash_keys,
            reads: 0,
            keys: 0,
            missed: 0,
            part_count: 0,
            parts: Vec::new(),
        };
        let (title, detail) = (format!("traffic of {}", run.namespace), serde_json::Value::Null);
        let of = RunOf::Namespace(namespace);
        let new = NewLife { of, title, detail, run, slot: None, of_slot: None, id: None };
        let (control, hashes) = (Arc::clone(self), request.hash_keys);
        self.start_run(caller, new, move |_, run| async move {
            let indexed = Indexed { began, hashes, ..Indexed::default() };
            control.record(&run, recorder, indexed, length).await
        })
        .await
    }

    async fn record(
        &self,
        run: &Watched<TrafficRecording>,
        recorder: TrafficRecorder,
        mut indexed: Indexed,
        length: Duration,
    ) -> RunEnd<TrafficRecording> {
        let mut stop = run.stop_signal();
        loop {
            let passed = self.engine.now().since(indexed.began);
            let left = length.saturating_sub(passed);
            tokio::select! {
                () = tokio::time::sleep(TAKE_EVERY.min(left)) => {}
                _ = stop.wait_for(|stop| *stop) => {}
            }
            let passed = self.engine.now().since(indexed.began).min(length);
            let (full, parts) = indexed.add(recorder.take());
            run.change(|run| {
                run.seconds = passed.as_secs_f64();
                (run.reads, run.keys) = (indexed.reads, indexed.indexes.len() as u64);
                run.missed = indexed.missed;
                run.part_count += parts.len() as u64;
                run.parts.extend(parts);
            });
            if let Some(why) = full {
                let change = Box::new(move |run: &mut TrafficRecording| run.reason = Some(why));
                return RunEnd { state: RunState::Done, change };
            }
            if *stop.borrow() {
                return RunEnd::of(RunState::Stopped);
            }
            if passed >= length {
                return RunEnd::of(RunState::Done);
            }
        }
    }

    /// The traffic of a recording that has ended.
    pub(super) async fn replayed(
        &self,
        caller: &Caller,
        id: u64,
    ) -> Result<Replayed, ControlError> {
        let unknown = || ControlError::Unknown(Subject::Recording(id));
        let row = self.records.run(RunKind::Recording, id).await?.ok_or_else(unknown)?;
        caller.needs_within(Right::Load, &row.tenant, &row.namespace).map_err(|_| unknown())?;
        if row.state == RunState::Running {
            return Err(Conflict::RecordingUnfinished(id).into());
        }
        let incomplete = || ControlError::from(InvalidInput::IncompleteRecording(id));
        let recording: TrafficRecording =
            serde_json::from_value(row.result).map_err(|_| incomplete())?;
        let samples = self.records.samples(id, 0, u32::MAX).await?;
        let parts: Result<Vec<RecordingPart>, _> =
            samples.into_iter().map(serde_json::from_value).collect();
        let parts = parts.map_err(|_| incomplete())?;
        if parts.len() as u64 != recording.part_count {
            return Err(incomplete());
        }
        let (mut keys, mut reads) = (Vec::new(), Vec::new());
        for part in parts {
            keys.extend(part.keys);
            reads.extend(RecordedRead::unpack(&part.reads).map_err(|_| incomplete())?);
        }
        if reads.iter().any(|read| read.key as usize >= keys.len()) {
            return Err(incomplete());
        }
        reads.sort();
        let length = Duration::try_from_secs_f64(recording.seconds).map_err(|_| incomplete())?;
        let reads = RecordedReads { length, reads };
        Ok(Replayed { keys, are_hashed: recording.hash_keys, reads })
    }
}

/// What was recorded so far, with an index for each key.
#[derive(Debug)]
struct Indexed {
    began: Timestamp,
    hashes: bool,
    indexes: HashMap<u64, u32>,
    key_text: usize,
    reads: u64,
    missed: u64,
}

impl Default for Indexed {
    fn default() -> Self {
        Self {
            began: Timestamp::from_millis(0),
            hashes: false,
            indexes: HashMap::new(),
            key_text: 0,
            reads: 0,
            missed: 0,
        }
    }
}

impl Indexed {
    /// Adds what was recorded; returns why there is no room for more, if so, and the new parts.
    fn add(&mut self, recorded: RecordedTraffic) -> (Option<String>, Vec<RecordingPart>) {
        self.missed += recorded.missed;
        let mut full = None;
        let mut new = Vec::new();
        for (hash, key) in recorded.keys {
            if self.indexes.len() >= MAX_KEYS || self.key_text + key.len() > MAX_KEY_TEXT {
                full = Some(format!("it is full: it has {} keys", self.indexes.len()));
                break;
            }
            let next = u32::try_from(self.indexes.len()).unwrap_or(u32::MAX);
            self.indexes.insert(hash, next);
            self.key_text += key.len();
            new.push(if self.hashes { format!("{hash:016x}") } else { key.into_string() });
        }
        let at_millis =
            |at: Timestamp| u32::try_from(at.since(self.began).as_millis()).unwrap_or(u32::MAX);
        let known = recorded.reads.iter().filter_map(|read| {
            let key = *self.indexes.get(&read.key)?;
            Some(RecordedRead { at_millis: at_millis(read.at), key })
        });
        let mut reads: Vec<RecordedRead> = known.collect();
        reads.sort();
        let room = usize::try_from(MAX_READS - self.reads).unwrap_or(usize::MAX);
        if reads.len() >= room {
            reads.truncate(room);
            full = Some(format!("it is full: it has {MAX_READS} reads"));
        }
        self.reads += reads.len() as u64;
        (full, parts_of(new, &reads))
    }
}

/// Parts that can be recorded each, the keys before the reads of them.
fn parts_of(keys: Vec<String>, reads: &[RecordedRead]) -> Vec<RecordingPart> {
    let mut parts: Vec<RecordingPart> = Vec::new();
    let mut text = usize::MAX;
    for key in keys {
        if text >= PART_KEY_TEXT {
            parts.push(RecordingPart::default());
            text = 0;
        }
        text += key.len();
        if let Some(part) = parts.last_mut() {
            part.keys.push(key);
        }
    }
    parts.extend(reads.chunks(PART_READS).map(|reads| {
        let reads = RecordedRead::pack(reads);
        RecordingPart { keys: Vec::new(), reads }
    }));
    parts
}

#[cfg(test)]
mod tests {
    use verax_core::store::SampledRead;

    use super::*;

    fn indexed(hashes: bool) -> Indexed {
        Indexed { began: Timestamp::from_millis(1_000), hashes, ..Indexed::default() }
    }

    fn traffic(keys: &[(u64, &str)], reads: &[(u64, u64)]) -> RecordedTraffic {
        let read =
            |(key, at): &(u64, u64)| SampledRead { key: *key, at: Timestamp::from_millis(*at) };
        RecordedTraffic {
            keys: keys.iter().map(|(hash, key)| (*hash, (*key).into())).collect(),
            reads: reads.iter().map(read).collect(),
            missed: 1,
        }
    }

    #[test]
    fn keys_get_indexes_and_reads_the_order_of_time() {
        let mut indexed = indexed(false);
        let (full, parts) =
            indexed.add(traffic(&[(7, "tide/7"), (9, "tide/9")], &[(9, 1_500), (7, 1_200)]));
        assert_eq!((full, parts.len()), (None, 2));
        assert_eq!(parts[0].keys, ["tide/7", "tide/9"]);
        let read = |at_millis, key| RecordedRead { at_millis, key };
        assert_eq!(RecordedRead::unpack(&parts[1].reads), Ok(vec![read(200, 0), read(500, 1)]));
        let (_, parts) = indexed.add(traffic(&[(3, "tide/3")], &[(3, 1_900), (7, 1_800)]));
        assert_eq!(RecordedRead::unpack(&parts[1].reads), Ok(vec![read(800, 0), read(900, 2)]));
        assert_eq!((indexed.reads, indexed.missed), (4, 2));
    }

    #[test]
    fn hashed_keys_say_nothing_of_the_keys() {
        let (_, parts) = indexed(true).add(traffic(&[(7, "passenger/anna")], &[(7, 1_200)]));
        assert_eq!(parts[0].keys, ["0000000000000007"]);
    }

    #[test]
    fn a_full_recording_says_so_and_has_as_much_as_it_may() {
        let mut indexed = indexed(false);
        indexed.reads = MAX_READS - 2;
        let (full, _) = indexed.add(traffic(&[(7, "a")], &[(7, 1_001)]));
        assert_eq!((full, indexed.reads), (None, MAX_READS - 1));
        let (full, _) = indexed.add(traffic(&[], &[(7, 1_002), (7, 1_003)]));
        assert!(full.is_some_and(|why| why.contains("full")));
        assert_eq!(indexed.reads, MAX_READS);
    }

    #[test]
    fn every_part_can_be_recorded() {
        let keys: Vec<String> = (0..600).map(|n| format!("{n:0>200}")).collect();
        let worst = vec![RecordedRead { at_millis: u32::MAX, key: u32::MAX }; PART_READS + 1];
        let parts = parts_of(keys.clone(), &worst);
        let named: Vec<String> = parts.iter().flat_map(|part| part.keys.clone()).collect();
        assert_eq!(named, keys);
        for part in &parts {
            let bytes = serde_json::to_vec(part).unwrap().len();
            assert!(bytes < 60_000, "{bytes}");
        }
    }
}
