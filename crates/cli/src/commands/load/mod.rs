//! Load runs: started in the service, followed here.

mod profiles;
mod recordings;
mod summary;
mod view;
mod worker;

use std::path::Path;

use serde_json::json;
use verax_api::{
    ArrivalsSpec, ChangeLoad, ExportedRun, KeySource, LoadProfileSpec, LoadReport, LoadRequest,
    LoadRun, MarkLoad, ProfileChoice,
};
use verax_client::Client;

use self::summary::{differences, summary};
use self::view::LoadView;
pub(crate) use self::worker::piped as piped_worker;
use super::runs;
use crate::arguments::{LoadCommand, LoadOptions};
use crate::failure::Failure;
use crate::figures;
use crate::output::{Output, table};
use crate::profile_file::read_profile;

/// Whether a profile is named by its file.
fn is_file(name: &str) -> bool {
    name.ends_with(".json") || name.ends_with(".toml") || Path::new(name).is_file()
}

/// The profile to run: one that the service offers, or a file; with what the flags change.
async fn profile(verax: &Client, options: &LoadOptions) -> Result<ProfileChoice, Failure> {
    let LoadOptions { profile: name, duration, clients, rate, speed, keys_from, .. } = options;
    let is_changed = duration.is_some()
        || clients.is_some()
        || rate.is_some()
        || speed.is_some()
        || keys_from.is_some();
    if !is_file(name) && !is_changed {
        return Ok(ProfileChoice::Named(name.clone()));
    }
    let mut spec = match is_file(name) {
        true => read_profile(Path::new(name))?,
        false => offered(verax, name).await?,
    };
    if let Some(duration) = duration {
        spec.duration_seconds = Some(duration.as_secs_f64());
        (spec.stages, spec.steps) = (Vec::new(), None);
    }
    let before = std::mem::take(&mut spec.arrivals);
    spec.arrivals = match (clients, rate) {
        (Some(clients), _) => {
            let think_seconds = before.think_seconds;
            ArrivalsSpec { clients: Some(*clients), think_seconds, ..ArrivalsSpec::default() }
        }
        (_, Some(rate)) => {
            let ArrivalsSpec { spacing, max_in_flight, .. } = before;
            let rate = Some(*rate);
            ArrivalsSpec { rate, spacing, max_in_flight, ..ArrivalsSpec::default() }
        }
        _ => before,
    };
    if speed.is_some() {
        spec.arrivals.speed = *speed;
    }
    if let Some(path) = keys_from {
        spec.keys = vec![KeySource::List(keys_of(path)?)];
    }
    Ok(ProfileChoice::Inline(Box::new(spec)))
}

async fn offered(verax: &Client, name: &str) -> Result<LoadProfileSpec, Failure> {
    let offered = verax.load_profiles().await?;
    let found = offered.into_iter().find(|profile| profiles::is_named(profile, name));
    found.map(|profile| profile.spec).ok_or_else(|| {
        Failure::not_found(format!(
            "there is no load profile {name}: `verax load profile list` lists them"
        ))
    })
}

/// The keys of a file, one a line.
fn keys_of(path: &Path) -> Result<Vec<String>, Failure> {
    let text = std::fs::read_to_string(path);
    let text = text.map_err(|e| Failure::usage(format!("{}: {e}", path.display())))?;
    let keys: Vec<String> =
        text.lines().filter(|line| !line.is_empty()).map(str::to_owned).collect();
    match keys.is_empty() {
        true => Err(Failure::usage(format!("{} has no keys: write one a line", path.display()))),
        false => Ok(keys),
    }
}

pub(super) async fn load(
    verax: &Client,
    output: Output,
    command: LoadCommand,
) -> Result<(), Failure> {
    match command {
        LoadCommand::Run(options) => {
            let profile = profile(verax, &options).await?;
            let LoadOptions { workers, joined, .. } = options;
            run(verax, output, &LoadRequest { profile, workers, joined }).await
        }
        LoadCommand::List => {
            let runs = verax.runs::<LoadRun>().await?;
            output.answer(&runs, |runs| table_of(runs))
        }
        LoadCommand::Show { run } => {
            let run = verax.load_run(run).await?;
            output.answer(&run, summary)
        }
        LoadCommand::Stop { run } => runs::stop::<LoadRun>(verax, output, run).await,
        LoadCommand::Change { run, level } => {
            let change = ChangeLoad { level: Some(level), paused: None };
            changed(verax, output, run, &change).await
        }
        LoadCommand::Pause { run } => {
            let change = ChangeLoad { level: None, paused: Some(true) };
            changed(verax, output, run, &change).await
        }
        LoadCommand::Resume { run } => {
            let change = ChangeLoad { level: None, paused: Some(false) };
            changed(verax, output, run, &change).await
        }
        LoadCommand::Mark { run, text } => {
            let marked = verax.mark_load_run(run, &MarkLoad { text }).await?;
            output.answer(&marked, last_mark)
        }
        LoadCommand::Profile(command) => profiles::profile(verax, output, command).await,
        LoadCommand::Recording(command) => recordings::recording(verax, output, command).await,
        LoadCommand::Compare { before, after } => {
            let comparison = verax.compare_load_runs(before, after).await?;
            output.answer(&comparison, differences)
        }
        LoadCommand::Export { run, form, output: file } => {
            export(verax, output, (run, &form), file.as_deref()).await
        }
        LoadCommand::Import { file, namespace } => {
            let exported = exported(&file)?;
            let run = verax.import_load_run(&exported, namespace.as_deref()).await?;
            output.answer(&run, |run| format!("kept as load run {}", run.id))
        }
        LoadCommand::Worker(options) => worker::join(verax, output, &options).await,
        LoadCommand::Workers => {
            let workers = verax.joined_load_workers().await?;
            output.answer(&workers, |workers| worker::table_of(workers))
        }
    }
}

async fn changed(
    verax: &Client,
    output: Output,
    run: u64,
    change: &ChangeLoad,
) -> Result<(), Failure> {
    let run = verax.change_load_run(run, change).await?;
    output.answer(&run, last_mark)
}

/// What was just drawn on the time line of a run.
fn last_mark(run: &LoadRun) -> String {
    let Some(mark) = run.marks.last() else { return String::new() };
    format!("load run {}, {:.1} s: {}", run.id, mark.at_seconds, mark.text)
}

/// An exported run of a file.
fn exported(file: &Path) -> Result<ExportedRun, Failure> {
    let shown = file.display();
    let text = std::fs::read_to_string(file);
    let text = text.map_err(|e| Failure::usage(format!("{shown}: {e}")))?;
    serde_json::from_str(&text)
        .map_err(|e| Failure::usage(format!("{shown} is no exported load run: {e}")))
}

async fn export(
    verax: &Client,
    output: Output,
    (run, form): (u64, &str),
    file: Option<&Path>,
) -> Result<(), Failure> {
    let text = verax.export_load_run(run, form).await?;
    let Some(file) = file else {
        use std::io::Write;
        return Ok(std::io::stdout().write_all(&text)?);
    };
    let written = std::fs::write(file, &text);
    written.map_err(|e| Failure::failed(format!("{}: {e}", file.display())))?;
    output.answer(&json!({ "file": file, "bytes": text.len() }), |_| {
        format!("wrote {}: {}", file.display(), figures::bytes(text.len() as u64))
    })
}

async fn run(verax: &Client, output: Output, request: &LoadRequest) -> Result<(), Failure> {
    let run = verax.start_load_run(request).await?;
    let view = LoadView::new(output, &run);
    let run = runs::follow(verax, run, |run| view.show(run)).await?;
    view.end();
    // What was followed had each second once.
    let run = verax.load_run(run.id).await?;
    if let (Some(reason), None) = (&run.reason, &run.report) {
        return Err(Failure::failed(format!("the load run failed: {reason}")));
    }
    output.answer(&run, summary)?;
    if let Some(reason) = &run.reason {
        return Err(Failure::failed(format!("the load run failed: {reason}")));
    }
    runs::completed(&run)?;
    judged(&run)
}

/// Fails for a run whose lanes cannot be compared, or that missed a goal.
fn judged(run: &LoadRun) -> Result<(), Failure> {
    let report = run.report.as_ref();
    let doubts = report.map_or(&[][..], |report| &report.doubts);
    let why: Vec<&str> = doubts.iter().map(|doubt| doubt.detail.as_str()).collect();
    if run.state == "stopped" {
        return Err(Failure::stopped(format!("load run {} was stopped", run.id)));
    }
    if !why.is_empty() {
        return Err(Failure::partial(format!("not comparable: {}", why.join("; "))));
    }
    let goals = report.map_or(&[][..], |report: &LoadReport| &report.goals);
    let missed: Vec<&str> =
        goals.iter().filter(|goal| !goal.is_met).map(|goal| goal.goal.as_str()).collect();
    match missed.is_empty() {
        true => Ok(()),
        false => Err(Failure::missed(format!("goals missed: {}", missed.join("; ")))),
    }
}

fn table_of(runs: &[LoadRun]) -> String {
    let row = |run: &LoadRun| {
        let report = run.report.as_ref();
        let p50 = |number: usize| {
            let lane = report.and_then(|report| report.lanes.get(number));
            lane.map_or_else(
                || "–".to_owned(),
                |lane| {
                    format!("{} {}", lane.name, figures::milliseconds_or_none(lane.figures.p50_ms))
                },
            )
        };
        vec![
            run.id.to_string(),
            run.started_at.strftime("%Y-%m-%d %H:%M:%S UTC").to_string(),
            run.profile.name.clone(),
            run.state.clone(),
            p50(0),
            p50(1),
            match report {
                Some(report) if !report.doubts.is_empty() => "not comparable".to_owned(),
                _ => figures::times(
                    report.and_then(LoadReport::comparison).and_then(|c| c.times_faster_p50),
                ),
            },
        ]
    };
    let titles =
        [">run", "started", "profile", "state", ">first p50", ">second p50", ">times faster"];
    table(&titles, runs.iter().map(row))
}
