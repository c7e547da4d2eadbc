//! What the machine and a process use: processors' time, memory, and the time that the machine's
//! host takes away.

use std::time::Duration;

use nix::sys::resource::{UsageWho, getrusage};

/// The processors' time that this process has used so far.
pub(crate) fn used_by_process() -> Option<Duration> {
    let usage = getrusage(UsageWho::RUSAGE_SELF).ok()?;
    let time = |value: nix::sys::time::TimeVal| {
        let seconds = u64::try_from(value.tv_sec()).ok()?;
        let micros = u64::try_from(value.tv_usec()).ok()?;
        Some(Duration::from_secs(seconds) + Duration::from_micros(micros))
    };
    Some(time(usage.user_time())? + time(usage.system_time())?)
}

/// The resident memory of this process, in bytes (proc_pid_status(5)).
pub(crate) fn resident_bytes() -> Option<u64> {
    let status = std::fs::read_to_string("/proc/self/status").ok()?;
    resident_in(&status)
}

fn resident_in(status: &str) -> Option<u64> {
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:"))?;
    let kilobytes: u64 = line.trim().strip_suffix(" kB")?.trim().parse().ok()?;
    Some(kilobytes * 1_024)
}

/// The processors that this process used between two moments.
#[derive(Debug)]
pub(crate) struct ProcessorUse {
    at: std::time::Instant,
    used: Option<Duration>,
}

impl ProcessorUse {
    pub(crate) fn start() -> Self {
        Self { at: std::time::Instant::now(), used: used_by_process() }
    }

    /// The processors since the last call.
    pub(crate) fn next(&mut self) -> Option<f64> {
        let (now, before) = (Self::start(), std::mem::replace(self, Self::start()));
        let time = now.at.saturating_duration_since(before.at).as_secs_f64();
        let used = now.used?.checked_sub(before.used?)?.as_secs_f64();
        (time > 0.0).then(|| used / time)
    }
}

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
    fn a_process_uses_processors_and_memory() {
        assert_eq!(resident_in("VmPeak:\t 10 kB\nVmRSS:\t  1024 kB\n"), Some(1 << 20));
        assert_eq!(resident_in("VmRSS:\t lots\n"), None);
        let mut processors = ProcessorUse::start();
        let begun = std::time::Instant::now();
        while begun.elapsed() < Duration::from_millis(30) {
            std::hint::spin_loop();
        }
        let used = processors.next();
        assert!(used.is_none_or(|used| (0.0..1_000.0).contains(&used)), "{used:?}");
        assert!(
            cfg!(not(target_os = "linux")) || resident_bytes().is_some_and(|bytes| bytes > 1 << 20)
        );
    }

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
