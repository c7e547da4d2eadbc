//! What the level of a load run counts.

use std::fmt;

/// What the level of a load run counts.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LevelUnit {
    /// The clients of each lane.
    Clients,
    /// The instances of an application in each lane.
    Instances,
    /// The requests per second of each lane.
    PerSecond,
    /// How many times as fast as it was recorded.
    Pace,
}

impl LevelUnit {
    /// A level with its unit.
    pub fn with(self, level: f64) -> String {
        match (self, level) {
            (Self::Clients, 1.0) => "1 client".to_owned(),
            (Self::Instances, 1.0) => "1 instance".to_owned(),
            (Self::Pace, _) => format!("{level} × the recorded pace"),
            _ => format!("{level} {self}"),
        }
    }

    /// A level with its unit, in few characters.
    pub fn briefly(self, level: f64) -> String {
        match self {
            Self::PerSecond => format!("{level:.0}/s"),
            Self::Pace => format!("{level} ×"),
            Self::Clients | Self::Instances => self.with(level.round()),
        }
    }
}

impl fmt::Display for LevelUnit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Clients => "clients",
            Self::Instances => "instances",
            Self::PerSecond => "requests per second",
            Self::Pace => "times the recorded pace",
        })
    }
}

#[cfg(test)]
mod tests {
    use super::LevelUnit;

    #[test]
    fn one_is_not_many() {
        assert_eq!(LevelUnit::Clients.with(1.0), "1 client");
        assert_eq!(LevelUnit::Instances.with(12.0), "12 instances");
        assert_eq!(LevelUnit::PerSecond.with(2.5), "2.5 requests per second");
        assert_eq!(LevelUnit::Pace.with(10.0), "10 × the recorded pace");
        assert_eq!(LevelUnit::Pace.briefly(0.5), "0.5 ×");
        assert_eq!(LevelUnit::PerSecond.briefly(39.7), "40/s");
        assert_eq!(LevelUnit::Clients.briefly(1.2), "1 client");
    }
}
