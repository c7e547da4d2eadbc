//! The settings of a plan, from its request.

use std::time::Duration;

use verax_api::{FreshChoice, KeyOrder, OverlapChoice, WarmRequest, duration_of};
use verax_core::warm::{FreshEntries, Overlap, WarmOrder, WarmSettings};

use crate::error::ControlError;

pub(super) fn overlap_of(choice: OverlapChoice) -> Overlap {
    match choice {
        OverlapChoice::Refuse => Overlap::Refuse,
        OverlapChoice::Join => Overlap::Join,
        OverlapChoice::Queue => Overlap::Queue,
    }
}

/// Reads and checks the settings of a request.
///
/// # Errors
/// [`ControlError::Invalid`].
pub(crate) fn settings_of(request: &WarmRequest) -> Result<WarmSettings, ControlError> {
    let usual = WarmSettings::default();
    let seconds = |field: &'static str, value: Option<f64>| -> Result<_, ControlError> {
        value.map(|value| duration_of(field, value)).transpose().map_err(ControlError::invalid)
    };
    let within = seconds("refresh_within_seconds", request.refresh_within_seconds)?;
    let fresh = match (request.fresh, within) {
        (FreshChoice::Refresh, _) => FreshEntries::Refresh,
        (FreshChoice::Skip, Some(within)) if within > Duration::ZERO => {
            FreshEntries::RefreshWithin(within)
        }
        (FreshChoice::Skip, _) => FreshEntries::Skip,
    };
    let settings = WarmSettings {
        order: match request.order {
            KeyOrder::Given => WarmOrder::Given,
            KeyOrder::HottestFirst => WarmOrder::HottestFirst,
            KeyOrder::CheapestFirst => WarmOrder::CheapestFirst,
        },
        concurrency: request.concurrency.unwrap_or(usual.concurrency),
        max_per_second: request.max_per_second,
        origin_share_percent: request.origin_share_percent.unwrap_or(usual.origin_share_percent),
        deadline: seconds("deadline_seconds", request.deadline_seconds)?,
        fresh,
        tolerated_failures: request.tolerated_failures,
        retries: request.retries.unwrap_or(usual.retries),
        first_pause: seconds("first_pause_seconds", request.first_pause_seconds)?
            .unwrap_or(usual.first_pause),
        max_age: seconds("max_age_seconds", request.max_age_seconds)?,
        overlap: overlap_of(request.overlap),
    };
    settings.check().map_err(ControlError::invalid)?;
    Ok(settings)
}
