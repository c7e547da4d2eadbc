//! Load runs as files: JSON for another Verax, CSV, an HdrHistogram interval log, and a page of its
//! own.

use std::time::{Duration, SystemTime};

use axum::http::header::{CONTENT_DISPOSITION, CONTENT_TYPE};
use axum::response::{IntoResponse, Response};
use serde::Deserialize;
use verax_api::{ExportedRun, LaneFigures, LoadRun};
use verax_core::load::{LoggedInterval, interval_log};

use crate::failure::{Failure, Result};
use crate::http::console::report_page;

/// Where the page of a run expects its data.
const PLACE: &str = "<!-- the run -->";

/// The form of an export.
#[derive(Debug, Clone, Copy, Default, Deserialize)]
#[cfg_attr(test, derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub(crate) enum ExportForm {
    /// For another Verax.
    #[default]
    Json,
    /// A row for each second and lane.
    Csv,
    /// An HdrHistogram interval log.
    HistogramLog,
    /// A page that needs nothing else.
    Html,
}

/// A run in a form.
pub(crate) fn export(run: LoadRun, form: ExportForm) -> Result<Response> {
    let id = run.id;
    let (text, media_type, extension) = match form {
        ExportForm::Json => (json(run)?, "application/json", "json"),
        ExportForm::Csv => (csv(&run), "text/csv; charset=utf-8", "csv"),
        ExportForm::HistogramLog => (log(&run)?, "text/plain; charset=utf-8", "hlog"),
        ExportForm::Html => (page(&run)?, "text/html; charset=utf-8", "html"),
    };
    // A download, so that a page of it has no rights in this service.
    let disposition = format!("attachment; filename=\"load-run-{id}.{extension}\"");
    let fields = [(CONTENT_TYPE, media_type), (CONTENT_DISPOSITION, disposition.as_str())];
    Ok((fields, text).into_response())
}

fn json(run: LoadRun) -> Result<String> {
    let exported = ExportedRun { verax_load_run: ExportedRun::VERSION, run };
    serde_json::to_string(&exported).map_err(Failure::invalid)
}

/// A cell of a row; `None` leaves it empty.
fn cell(value: Option<f64>) -> String {
    value.map_or_else(String::new, |value| value.to_string())
}

fn csv(run: &LoadRun) -> String {
    let mut text = String::from(
        "at_seconds,stage,warm_up,level,lane,requests,errors,per_second,mean_ms,p50_ms,p90_ms,\
         p99_ms,p999_ms,max_ms,hit_ratio,origin_calls,writes,service_processors,\
         generator_processors,stolen\n",
    );
    for tick in &run.ticks {
        for (lane, figures) in run.profile.lanes.iter().zip(&tick.lanes) {
            let LaneFigures { mean_ms, p50_ms, p90_ms, p99_ms, p999_ms, max_ms, .. } = *figures;
            // Names have no commas or quotes.
            let row = [
                tick.at_seconds.to_string(),
                tick.stage.to_string(),
                tick.warm_up.to_string(),
                tick.level.to_string(),
                lane.name.clone(),
                figures.requests.to_string(),
                figures.errors.to_string(),
                figures.per_second.to_string(),
                cell(mean_ms),
                cell(p50_ms),
                cell(p90_ms),
                cell(p99_ms),
                cell(p999_ms),
                cell(max_ms),
                cell(figures.hit_ratio),
                figures.origin_calls.to_string(),
                figures.writes.to_string(),
                cell(tick.machine.service_processors),
                cell(tick.machine.generator_processors),
                cell(tick.machine.stolen),
            ];
            text.push_str(&row.join(","));
            text.push('\n');
        }
    }
    text
}

fn log(run: &LoadRun) -> Result<String> {
    let mut intervals = Vec::new();
    let mut begin = Duration::ZERO;
    for tick in &run.ticks {
        let end = Duration::try_from_secs_f64(tick.at_seconds).unwrap_or(begin);
        let length = end.saturating_sub(begin);
        for (lane, histogram) in run.profile.lanes.iter().zip(&tick.histograms) {
            intervals.push(LoggedInterval { lane: &lane.name, begin, length, histogram });
        }
        begin = end;
    }
    let started = SystemTime::from(run.started_at);
    interval_log(started, intervals.into_iter()).map_err(Failure::invalid)
}

fn page(run: &LoadRun) -> Result<String> {
    let template = report_page().ok_or_else(|| {
        Failure::invalid("this build of Verax has no console, and so no page for a run")
    })?;
    let data = serde_json::to_string(&run.since_tick(0)).map_err(Failure::invalid)?;
    // Within a script element of a page, nothing of the data may end it.
    let data = data.replace('<', "\\u003c");
    Ok(template.replacen(PLACE, &data, 1))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn run() -> LoadRun {
        serde_json::from_value(serde_json::json!({
            "id": 7, "state": "done", "started_at": "2031-05-02T06:00:00Z", "report": null,
            "profile": {
                "name": "rush", "namespace": "ferrydesk/boards", "title": "</script><b>",
            },
            "ticks": [{
                "at_seconds": 1.0, "stage": 0, "warm_up": false, "level": 4.0,
                "lanes": [
                    { "requests": 3, "errors": 1, "per_second": 2.0, "mean_ms": 1.5, "p50_ms": 1.0,
                      "p90_ms": null, "p99_ms": null, "p999_ms": null, "max_ms": 2.0,
                      "hit_ratio": 0.5, "origin_calls": 1 },
                ],
            }],
        }))
        .unwrap()
    }

    #[test]
    fn a_row_has_as_many_cells_as_there_are_titles() {
        let text = csv(&run());
        let lines: Vec<usize> = text.lines().map(|line| line.split(',').count()).collect();
        assert_eq!(lines, [20, 20], "{text}");
        assert!(text.contains("\n1,0,false,4,cached,3,1,2,1.5,1,,,,2,0.5,1,0,,,\n"), "{text}");
    }

    #[test]
    fn an_export_is_read_back() {
        let exported: ExportedRun = serde_json::from_str(&json(run()).unwrap()).unwrap();
        assert_eq!(exported.run, run());
    }

    #[test]
    fn nothing_of_a_run_ends_the_script_of_its_page() {
        let Ok(page) = page(&run()) else { return };
        assert!(!page.contains("</script><b>") && page.contains("\\u003c/script>\\u003cb>"));
    }
}
