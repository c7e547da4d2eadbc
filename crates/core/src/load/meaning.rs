//! What the figures of a run mean for traffic and money. Each figure comes with its formula.

use serde::{Deserialize, Serialize};

use super::invalid_profile::InvalidProfile;

/// The seconds of a month: a twelfth of a year of 365.25 days.
pub(super) const MONTH_SECONDS: f64 = 365.25 * 86_400.0 / 12.0;

/// What is known about the traffic and its price.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(default, deny_unknown_fields)]
pub struct Traffic {
    /// The busiest second of a month over its average second; 3 when absent.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub peak_to_average: Option<f64>,
    /// Today's requests in the busiest second.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub peak_per_second: Option<f64>,
    /// The price of an instance of the origin for a month, in any currency.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub instance_price: Option<f64>,
    /// The price of a million reads of the origin, in the same currency.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub million_reads_price: Option<f64>,
}

impl Traffic {
    pub(super) fn check(&self) -> Result<(), InvalidProfile> {
        let number = |what, value, range| InvalidProfile::Number { what, value, range };
        if let Some(ratio) = self.peak_to_average.filter(|ratio| !(1.0..=1e6).contains(ratio)) {
            return Err(number("peak_to_average", ratio, "use 1 to 1000000"));
        }
        let others = [
            ("peak_per_second", self.peak_per_second),
            ("instance_price", self.instance_price),
            ("million_reads_price", self.million_reads_price),
        ];
        let wrong = others.into_iter().find_map(|(what, value)| {
            value.filter(|value| !(0.0..=1e12).contains(value)).map(|value| (what, value))
        });
        match wrong {
            Some((what, value)) => Err(number(what, value, "use 0 to 1000000000000")),
            None => Ok(()),
        }
    }
}

/// The busiest second of a month over its average second, unless it is known.
pub const DEFAULT_PEAK_TO_AVERAGE: f64 = 3.0;

/// What one figure means.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Meaning {
    /// What it is about.
    pub name: String,
    /// Its value.
    pub value: f64,
    /// Its unit.
    pub unit: String,
    /// How it was worked out.
    pub formula: String,
}

/// The throughput of a lane and of the one that it is compared with, and how many of its reads
/// reach the origin.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Capacities {
    /// Successful requests per second of the lane: at its knee, if that is known.
    pub this_per_second: f64,
    /// Those of the other lane.
    pub other_per_second: f64,
    /// The share of the lane's reads that reach the origin, 0 to 1.
    pub miss_share: f64,
}

/// A figure in a formula: `12,345` from a hundred upward, `3` or `3.2` below.
fn figure(number: f64) -> String {
    if number.abs() < 100.0 {
        return format!("{number:.1}").trim_end_matches(".0").to_owned();
    }
    let digits = format!("{number:.0}");
    let mut text = String::new();
    for (at, digit) in digits.chars().enumerate() {
        let is_apart = at > 0 && (digits.len() - at).is_multiple_of(3) && !text.ends_with('-');
        text.extend(is_apart.then_some(','));
        text.push(digit);
    }
    text
}

/// What capacities mean for some traffic.
pub fn meanings(capacities: Capacities, traffic: &Traffic) -> Vec<Meaning> {
    let Capacities { this_per_second: this, other_per_second: other, miss_share } = capacities;
    let peak = traffic.peak_to_average.unwrap_or(DEFAULT_PEAK_TO_AVERAGE).max(1.0);
    let meaning = |name: &str, value, unit: &str, formula: String| Meaning {
        name: name.to_owned(),
        value,
        unit: unit.to_owned(),
        formula,
    };
    let mut all = vec![meaning(
        "requests a month",
        this / peak * MONTH_SECONDS,
        "requests",
        format!(
            "{}/s ÷ {} (peak to average) × {} s",
            figure(this),
            figure(peak),
            figure(MONTH_SECONDS)
        ),
    )];
    if let Some(today) = traffic.peak_per_second.filter(|today| *today > 0.0) {
        all.push(meaning(
            "headroom",
            this / today,
            "times today's peak",
            format!("{}/s ÷ {}/s", figure(this), figure(today)),
        ));
        if other > 0.0 {
            // What still reaches the origin needs its instances all the same.
            let (without, with) = ((today / other).ceil(), (today * miss_share / other).ceil());
            let saved = without - with;
            all.push(meaning(
                "instances of the origin saved",
                saved,
                "instances",
                format!(
                    "⌈{today}/s ÷ {other}/s⌉ − ⌈{today}/s × {:.1} % ÷ {other}/s⌉",
                    miss_share * 100.0,
                    today = figure(today),
                    other = figure(other),
                ),
            ));
            if let Some(price) = traffic.instance_price {
                all.push(meaning(
                    "saved by fewer instances",
                    saved * price,
                    "a month",
                    format!("{} × {price}", figure(saved)),
                ));
            }
        }
        if let Some(price) = traffic.million_reads_price {
            let reads = today / peak * MONTH_SECONDS * (1.0 - miss_share) / 1e6;
            all.push(meaning(
                "saved by fewer reads",
                reads * price,
                "a month",
                format!(
                    "{}/s ÷ {} × {} s × {:.1} % ÷ 1,000,000 × {price}",
                    figure(today),
                    figure(peak),
                    figure(MONTH_SECONDS),
                    (1.0 - miss_share) * 100.0
                ),
            ));
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    const CAPACITIES: Capacities =
        Capacities { this_per_second: 3_000.0, other_per_second: 20.0, miss_share: 0.05 };

    #[test]
    fn figures_are_easy_to_read() {
        let figures =
            [0.0, 3.0, 3.25, 99.94, 100.0, 999.6, 12_345.4, 2_629_800.0, -120.0, -1_200.0];
        let expected =
            ["0", "3", "3.2", "99.9", "100", "1,000", "12,345", "2,629,800", "-120", "-1,200"];
        assert_eq!(figures.map(figure), expected);
    }

    fn value(traffic: &Traffic, name: &str) -> Option<f64> {
        let all = meanings(CAPACITIES, traffic);
        all.into_iter().find(|meaning| meaning.name == name).map(|meaning| meaning.value)
    }

    #[test]
    fn numbers_are_bounded() {
        let ratio =
            |ratio| Traffic { peak_to_average: Some(ratio), ..Traffic::default() }.check().is_ok();
        assert_eq!([0.9, 1.0, 1e6, 1.1e6, f64::NAN].map(ratio), [false, true, true, false, false]);
        let price =
            |price| Traffic { instance_price: Some(price), ..Traffic::default() }.check().is_ok();
        assert_eq!([-1.0, 0.0, 1e12, 1.1e12].map(price), [false, true, true, false]);
    }

    #[test]
    fn a_month_has_its_average_not_its_peak() {
        let requests = value(&Traffic::default(), "requests a month").unwrap();
        assert_eq!(requests, 1_000.0 * MONTH_SECONDS);
        assert_eq!(value(&Traffic::default(), "headroom"), None);
    }

    #[test]
    fn instances_and_money_follow_from_todays_traffic() {
        let traffic = Traffic {
            peak_to_average: Some(2.0),
            peak_per_second: Some(300.0),
            instance_price: Some(50.0),
            million_reads_price: Some(0.4),
        };
        assert_eq!(value(&traffic, "headroom"), Some(10.0));
        // 15 instances without the cache, one with it.
        assert_eq!(value(&traffic, "instances of the origin saved"), Some(14.0));
        assert_eq!(value(&traffic, "saved by fewer instances"), Some(700.0));
        let reads = value(&traffic, "saved by fewer reads").unwrap();
        assert!((reads - 150.0 * MONTH_SECONDS * 0.95 / 1e6 * 0.4).abs() < 1e-9);
    }
}
