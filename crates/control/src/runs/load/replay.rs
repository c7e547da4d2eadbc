//! Which keys a load run reads that replays recorded traffic.

use verax_api::LoadProfileSpec;
use verax_core::Key;
use verax_core::load::{LoadProfile, MAX_RATE, RecordedReads};

use crate::control::Control;
use crate::error::ControlError;
use crate::invalid::InvalidInput;
use crate::registry::Registered;
use crate::runs::recording::Replayed;

impl Control {
    /// The keys of a run that replays some traffic, and its reads by their indexes.
    ///
    /// Without keys of its own, the profile reads the recorded keys, apart from those that have no
    /// value at the origin. Else the n-th of its keys stands for the n-th most read recorded one.
    pub(super) async fn keys_to_replay(
        &self,
        namespace: &Registered,
        spec: &LoadProfileSpec,
        profile: &LoadProfile,
        replayed: Replayed,
    ) -> Result<(Vec<Key>, Option<RecordedReads>), ControlError> {
        let recording = spec.arrivals.recording.unwrap_or_default();
        let Replayed { keys: recorded, are_hashed, mut reads } = replayed;
        let keys = match (spec.keys.is_empty(), are_hashed) {
            (true, true) => return Err(InvalidInput::HashedRecording(recording).into()),
            (true, false) => {
                let pattern = namespace.binding().policy.origin.clone().map(|o| o.key_pattern);
                let fits = |key: &str| pattern.as_ref().is_none_or(|p| p.values_of(key).is_some());
                keep_fitting(&recorded, &mut reads, fits)
            }
            (false, _) => {
                let keys = self.keys_of(namespace, &spec.keys).await?.keys;
                if keys.len() < recorded.len() {
                    let (keys, recorded) = (keys.len(), recorded.len());
                    return Err(InvalidInput::FewerKeys { keys, recorded, recording }.into());
                }
                reads.by_rank(recorded.len());
                keys
            }
        };
        if reads.reads.is_empty() {
            return Err(InvalidInput::EmptyRecording(recording).into());
        }
        let (per_second, speed) = (reads.per_second(), profile.stages.highest());
        if per_second * speed > MAX_RATE {
            let max = MAX_RATE;
            return Err(InvalidInput::ReplayRate { recording, per_second, speed, max }.into());
        }
        Ok((keys, Some(reads)))
    }
}

/// The recorded keys that fit; the reads of the others are left out.
fn keep_fitting(
    recorded: &[String],
    reads: &mut RecordedReads,
    fits: impl Fn(&str) -> bool,
) -> Vec<Key> {
    let mut keys = Vec::with_capacity(recorded.len());
    let indexes: Vec<Option<u32>> = recorded
        .iter()
        .map(|text| {
            let key = Key::new(text.as_str()).ok().filter(|key| fits(key.as_str()))?;
            keys.push(key);
            u32::try_from(keys.len() - 1).ok()
        })
        .collect();
    reads.reads.retain_mut(|read| {
        let index = indexes.get(read.key as usize).copied().flatten();
        read.key = index.unwrap_or_default();
        index.is_some()
    });
    keys
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use verax_core::load::RecordedRead;

    use super::*;

    #[test]
    fn reads_of_keys_that_do_not_fit_are_left_out() {
        let recorded = ["a/1", "b", "a/2"].map(str::to_owned);
        let read = |at_millis, key| RecordedRead { at_millis, key };
        let reads = vec![read(1, 0), read(2, 1), read(3, 2), read(4, 1), read(5, 0)];
        let mut reads = RecordedReads { length: Duration::from_secs(1), reads };
        let keys = keep_fitting(&recorded, &mut reads, |key| key.starts_with("a/"));
        assert_eq!(keys.iter().map(Key::as_str).collect::<Vec<_>>(), ["a/1", "a/2"]);
        assert_eq!(reads.reads, [read(1, 0), read(3, 1), read(5, 0)]);
    }
}
