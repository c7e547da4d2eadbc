//! Recorded traffic: which key was read when.

use std::time::Duration;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use serde::{Deserialize, Serialize};

/// A read of recorded traffic.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct RecordedRead {
    /// When it was, in milliseconds since the recording began.
    pub at_millis: u32,
    /// The index of its key.
    pub key: u32,
}

/// Recorded traffic, in the order of time.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct RecordedReads {
    /// How long it was recorded.
    pub length: Duration,
    /// The reads.
    pub reads: Vec<RecordedRead>,
}

/// Recorded traffic cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("the recorded reads are damaged")]
pub struct InvalidRecording;

/// Writes a number as LEB128: seven bits a byte, the lowest first.
fn write_number(bytes: &mut Vec<u8>, mut number: u32) {
    while number >= 0x80 {
        bytes.push(number as u8 | 0x80);
        number >>= 7;
    }
    bytes.push(number as u8);
}

/// Reads a number that [`write_number`] wrote.
fn read_number(bytes: &mut impl Iterator<Item = u8>) -> Option<u32> {
    let mut number = 0_u64;
    for shift in (0..35).step_by(7) {
        let byte = bytes.next()?;
        number |= u64::from(byte & 0x7f) << shift;
        if byte & 0x80 == 0 {
            return u32::try_from(number).ok();
        }
    }
    None
}

impl RecordedRead {
    /// Writes reads, which are in the order of time, as text.
    pub fn pack(reads: &[Self]) -> String {
        let (mut bytes, mut last) = (Vec::with_capacity(reads.len() * 3), 0);
        for read in reads {
            write_number(&mut bytes, read.at_millis.saturating_sub(last));
            write_number(&mut bytes, read.key);
            last = read.at_millis.max(last);
        }
        STANDARD.encode(bytes)
    }

    /// Reads what [`pack`](Self::pack) wrote.
    ///
    /// # Errors
    /// [`InvalidRecording`].
    pub fn unpack(text: &str) -> Result<Vec<Self>, InvalidRecording> {
        let bytes = STANDARD.decode(text).map_err(|_| InvalidRecording)?;
        let (mut bytes, mut last) = (bytes.into_iter().peekable(), 0_u32);
        let mut reads = Vec::new();
        while bytes.peek().is_some() {
            let passed = read_number(&mut bytes).ok_or(InvalidRecording)?;
            let key = read_number(&mut bytes).ok_or(InvalidRecording)?;
            last = last.checked_add(passed).ok_or(InvalidRecording)?;
            reads.push(Self { at_millis: last, key });
        }
        Ok(reads)
    }
}

impl RecordedReads {
    /// The average reads per second.
    pub fn per_second(&self) -> f64 {
        self.reads.len() as f64 / self.length.as_secs_f64().max(1e-3)
    }

    /// Names each key by its rank among `keys` keys: 0 is the one that was read most.
    pub fn by_rank(&mut self, keys: usize) {
        let mut counts = vec![0_u32; keys];
        for read in &self.reads {
            if let Some(count) = counts.get_mut(read.key as usize) {
                *count += 1;
            }
        }
        let mut order: Vec<u32> = (0..u32::try_from(keys).unwrap_or(u32::MAX)).collect();
        order.sort_by_key(|key| std::cmp::Reverse(counts[*key as usize]));
        let mut ranks = vec![0; keys];
        for (rank, key) in (0..).zip(order) {
            ranks[key as usize] = rank;
        }
        for read in &mut self.reads {
            read.key = ranks.get(read.key as usize).copied().unwrap_or_default();
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn packed_reads_are_read_as_they_were(reads in proptest::collection::vec((0..u32::MAX, any::<u32>()), 0..50)) {
            let mut reads: Vec<RecordedRead> =
                reads.into_iter().map(|(at_millis, key)| RecordedRead { at_millis, key }).collect();
            reads.sort();
            prop_assert_eq!(RecordedRead::unpack(&RecordedRead::pack(&reads)), Ok(reads));
        }

        #[test]
        fn damaged_text_is_no_panic(text in "[A-Za-z0-9+/]{0,40}") {
            let _ = RecordedRead::unpack(&text);
        }
    }

    #[test]
    fn what_is_cut_off_or_too_large_is_refused() {
        let reads = [RecordedRead { at_millis: 300, key: 7 }];
        let packed = STANDARD.decode(RecordedRead::pack(&reads)).unwrap();
        let cut = STANDARD.encode(&packed[..packed.len() - 1]);
        assert_eq!(RecordedRead::unpack(&cut), Err(InvalidRecording));
        assert_eq!(RecordedRead::unpack("?"), Err(InvalidRecording));
        // Two distances that are more than 32 bits together.
        let mut bytes = Vec::new();
        [u32::MAX, 0, 1, 0].into_iter().for_each(|number| write_number(&mut bytes, number));
        assert_eq!(RecordedRead::unpack(&STANDARD.encode(bytes)), Err(InvalidRecording));
    }

    #[test]
    fn ranks_follow_how_often_keys_were_read() {
        let read = |at_millis, key| RecordedRead { at_millis, key };
        let reads = vec![read(1, 0), read(2, 2), read(3, 2), read(4, 1), read(5, 2), read(6, 1)];
        let mut recorded = RecordedReads { length: Duration::from_secs(2), reads };
        recorded.by_rank(3);
        let ranks: Vec<u32> = recorded.reads.iter().map(|read| read.key).collect();
        assert_eq!(ranks, [2, 0, 0, 1, 0, 1]);
        assert_eq!(recorded.per_second(), 3.0);
    }
}
