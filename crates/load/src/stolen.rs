//! The time that a machine's host takes away from it.

/// The processors' time in ticks: what was stolen, and all of it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct ProcessorTime {
    stolen: u64,
    all: u64,
}

impl ProcessorTime {
    /// The time since the machine started; `None` where the kernel does not tell.
    pub(crate) fn now() -> Option<Self> {
        Self::read(&std::fs::read_to_string("/proc/stat").ok()?)
    }

    /// Reads the first line of `/proc/stat` (proc_stat(5)): user, nice, system, idle, iowait, irq,
    /// softirq, steal, and guests, who are counted as users already.
    fn read(text: &str) -> Option<Self> {
        let line = text.lines().next()?.strip_prefix("cpu ")?;
        let times: Vec<u64> = line.split_whitespace().map_while(|time| time.parse().ok()).collect();
        Some(Self { stolen: *times.get(7)?, all: times.iter().take(8).sum() })
    }

    /// The share of the time since `before` that was stolen.
    pub(crate) fn stolen_since(self, before: Self) -> Option<f64> {
        let all = self.all.checked_sub(before.all).filter(|all| *all > 0)?;
        Some(self.stolen.saturating_sub(before.stolen) as f64 / all as f64)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_stolen_share_is_that_of_the_time_between() {
        let at = |text: &str| ProcessorTime::read(text).unwrap();
        let before = at("cpu  100 0 50 800 10 0 5 35 7 0\ncpu0 1 2 3");
        let after = at("cpu  150 0 70 840 10 0 5 65 9 0\n");
        // 140 ticks passed, 30 of them elsewhere.
        assert!((after.stolen_since(before).unwrap() - 30.0 / 140.0).abs() < 1e-12);
        assert_eq!(before.stolen_since(before), None);
        assert_eq!(ProcessorTime::read("cpu  1 2 3\n"), None);
        assert_eq!(ProcessorTime::read("intr 5\n"), None);
        assert!(cfg!(not(target_os = "linux")) || ProcessorTime::now().is_some());
    }
}
