//! A histogram of reuse times, by group of keys.

/// The groups of keys whose spread tells the error.
pub(super) const GROUPS: usize = 8;

/// Four bins for each power of two, up to 2⁴¹ reads.
pub(super) const BINS: usize = 160;

/// The bin of a reuse time.
pub(super) fn bin_of(reads: u64) -> usize {
    let octave = reads.checked_ilog2().unwrap_or(0).saturating_sub(2);
    (4 * octave as usize + (reads >> octave) as usize).min(BINS - 1)
}

/// The shortest reuse time of a bin.
pub(super) fn start_of(bin: usize) -> u64 {
    match bin {
        0..8 => bin as u64,
        _ => (bin as u64 % 4 + 4) << (bin / 4 - 1),
    }
}

/// What became of the entries that were read so many reads ago, in weights.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Ends {
    /// Read again, in time.
    pub(super) hits: f64,
    /// Their lifetime ended before they were read again.
    pub(super) expired: f64,
    /// Not followed any longer: not read again yet.
    pub(super) left: f64,
}

impl Ends {
    pub(super) fn total(self) -> f64 {
        self.hits + self.expired + self.left
    }
}

/// How the time after a read of a key ended.
#[derive(Debug, Clone, Copy)]
pub(super) enum End {
    Hit,
    Expired,
    Left,
}

/// Reuse times of sampled reads.
#[derive(Debug, Clone)]
pub(super) struct ReuseTimes {
    bins: Box<[[Ends; GROUPS]]>,
}

impl Default for ReuseTimes {
    fn default() -> Self {
        Self { bins: vec![[Ends::default(); GROUPS]; BINS].into() }
    }
}

impl ReuseTimes {
    pub(super) fn add(&mut self, group: usize, reads: u64, end: End, weight: f64) {
        let ends = &mut self.bins[bin_of(reads)][group % GROUPS];
        match end {
            End::Hit => ends.hits += weight,
            End::Expired => ends.expired += weight,
            End::Left => ends.left += weight,
        }
    }

    /// Makes everything so far count `by` as much.
    pub(super) fn scale(&mut self, by: f64) {
        for ends in self.bins.iter_mut().flatten() {
            ends.hits *= by;
            ends.expired *= by;
            ends.left *= by;
        }
    }

    /// The ends of a bin, of all groups but one.
    pub(super) fn without(&self, bin: usize, group: Option<usize>) -> Ends {
        let groups = self.bins[bin].iter().enumerate();
        groups.filter(|(at, _)| Some(*at) != group).fold(Ends::default(), |sum, (_, ends)| Ends {
            hits: sum.hits + ends.hits,
            expired: sum.expired + ends.expired,
            left: sum.left + ends.left,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bins_follow_each_other_without_a_gap() {
        for bin in 0..BINS - 1 {
            let (start, next) = (start_of(bin), start_of(bin + 1));
            assert!(start < next);
            assert_eq!((bin_of(start), bin_of(next - 1)), (bin, bin), "{start} to {next}");
        }
        assert_eq!(bin_of(u64::MAX), BINS - 1);
    }
}
