//! Alternating rounds of two sides, and their ratio.

/// A row of the table: rates by round of Verax and of its limit.
#[derive(Debug)]
pub(crate) struct Row {
    pub(crate) what: String,
    pub(crate) against: String,
    pub(crate) goal: f64,
    rounds: Vec<(f64, f64)>,
}

fn median(mut numbers: Vec<f64>) -> f64 {
    numbers.sort_by(f64::total_cmp);
    match numbers.len() {
        0 => f64::NAN,
        n if n % 2 == 1 => numbers[n / 2],
        n => f64::midpoint(numbers[n / 2 - 1], numbers[n / 2]),
    }
}

pub(crate) fn rate(per_second: f64) -> String {
    match per_second {
        r if r >= 1e6 => format!("{:.2} M/s", r / 1e6),
        r => format!("{:.1} k/s", r / 1e3),
    }
}

impl Row {
    /// Runs `rounds` alternating rounds of both sides; the first of each is not counted. The order
    /// alternates, so that neither always runs on a warmer machine.
    pub(crate) fn take(
        (what, against, goal): (&str, &str, f64),
        rounds: usize,
        mut verax: impl FnMut() -> f64,
        mut limit: impl FnMut() -> f64,
    ) -> Self {
        let pairs = (0..rounds).map(|round| {
            if round % 2 == 0 {
                let ours = verax();
                (ours, limit())
            } else {
                let bare = limit();
                (verax(), bare)
            }
        });
        let rounds = pairs.skip(1).collect();
        Self { what: what.to_owned(), against: against.to_owned(), goal, rounds }
    }

    fn ratios(&self) -> Vec<f64> {
        self.rounds.iter().map(|(ours, bare)| ours / bare).collect()
    }

    pub(crate) fn ratio(&self) -> f64 {
        median(self.ratios())
    }

    pub(crate) fn spread(&self) -> String {
        let mut ratios = self.ratios();
        ratios.sort_by(f64::total_cmp);
        match (ratios.first(), ratios.last()) {
            (Some(low), Some(high)) => format!("{low:.2}–{high:.2}"),
            _ => "–".to_owned(),
        }
    }

    pub(crate) fn verax_rate(&self) -> String {
        rate(median(self.rounds.iter().map(|r| r.0).collect()))
    }

    pub(crate) fn limit_rate(&self) -> String {
        rate(median(self.rounds.iter().map(|r| r.1).collect()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_first_round_is_warm_up_and_the_rest_are_paired() {
        let (mut ours, mut bare) =
            ([9.0, 8.0, 6.0, 4.0].into_iter(), [1.0, 10.0, 10.0, 10.0].into_iter());
        let row = Row::take(("a", "b", 0.8), 4, || ours.next().unwrap(), || bare.next().unwrap());
        assert_eq!(row.ratios(), [0.8, 0.6, 0.4]);
        assert_eq!((row.ratio(), row.spread().as_str()), (0.6, "0.40–0.80"));
    }

    #[test]
    fn medians_of_even_counts_lie_between() {
        assert_eq!(median(vec![4.0, 1.0, 2.0, 3.0]), 2.5);
    }
}
