//! Drills: experiments that show one guarantee each, with and without it.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

/// A drill that can be run.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct DrillSpec {
    /// Its name.
    pub name: String,
    /// The question it answers.
    pub title: String,
    /// What it does.
    pub about: String,
}

/// Starts a drill.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct DrillRequest {
    /// Its name.
    pub drill: String,
    /// How many callers take part, 2 to 1,000; the drill's own number when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub callers: Option<u32>,
}

/// A result of one side of a drill.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct DrillFigure {
    /// What was measured or counted.
    pub name: String,
    /// The number.
    pub value: f64,
    /// Its unit; empty for a count.
    pub unit: String,
}

/// The figures of a side at one moment.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct DrillTick {
    /// Milliseconds since the side began.
    pub at_ms: f64,
    /// Numbers by name; the same names in every tick of a drill.
    pub values: BTreeMap<String, f64>,
}

/// An event of a side.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct DrillEvent {
    /// Milliseconds since the side began.
    pub at_ms: f64,
    /// Who did it.
    pub who: String,
    /// What.
    pub what: String,
}

/// One side: with or without the guarantee.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct DrillSide {
    /// Which.
    pub name: String,
    /// Its results; the same figures in the same order on every side.
    pub figures: Vec<DrillFigure>,
    /// The figures while it ran.
    pub ticks: Vec<DrillTick>,
    /// What happened, in order.
    pub events: Vec<DrillEvent>,
}

/// A drill, running or ended.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct DrillRun {
    /// Its identity within this process.
    pub id: u64,
    /// Which drill.
    pub drill: DrillSpec,
    /// `running`, `done` or `failed`.
    pub state: String,
    /// When it began.
    #[cfg_attr(feature = "openapi", schema(value_type = String, format = DateTime))]
    pub started_at: jiff::Timestamp,
    /// Its sides so far.
    pub sides: Vec<DrillSide>,
    /// Its conclusion in a sentence, when it is done.
    pub conclusion: Option<String>,
    /// Why it failed.
    pub reason: Option<String>,
}
