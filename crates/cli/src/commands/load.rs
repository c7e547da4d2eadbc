//! Load runs: started in the service, followed here.

use std::path::Path;

use verax_api::{LoadRequest, LoadRun, ProfileChoice};
use verax_client::Client;

use super::load_view::{LoadView, summary};
use super::runs;
use crate::arguments::LoadCommand;
use crate::failure::Failure;
use crate::figures;
use crate::output::{Output, table};
use crate::start::read_profile;

/// The profile to run: one that the service offers, or a file; with what the flags change.
async fn profile(
    verax: &Client,
    name: &str,
    duration: Option<std::time::Duration>,
    clients: Option<u32>,
) -> Result<ProfileChoice, Failure> {
    let file = Path::new(name);
    let from_file = name.ends_with(".json") || file.is_file();
    if !from_file && duration.is_none() && clients.is_none() {
        return Ok(ProfileChoice::Named(name.to_owned()));
    }
    let mut spec = if from_file {
        read_profile(file)?
    } else {
        let offered = verax.load_profiles().await?;
        offered.into_iter().find(|p| p.name == name).ok_or_else(|| {
            Failure::not_found(format!(
                "there is no load profile {name}: `verax load profiles` lists them"
            ))
        })?
    };
    spec.duration_seconds = duration.map_or(spec.duration_seconds, |d| d.as_secs_f64());
    spec.clients = clients.unwrap_or(spec.clients);
    Ok(ProfileChoice::Inline(Box::new(spec)))
}

pub(super) async fn load(
    verax: &Client,
    output: Output,
    command: LoadCommand,
) -> Result<(), Failure> {
    match command {
        LoadCommand::Run { profile: name, duration, clients } => {
            let profile = profile(verax, &name, duration, clients).await?;
            run(verax, output, &LoadRequest { profile }).await
        }
        LoadCommand::List => {
            let runs = verax.runs::<LoadRun>().await?;
            output.answer(&runs, |runs| table_of(runs))
        }
        LoadCommand::Stop { run } => runs::stop::<LoadRun>(verax, output, run).await,
        LoadCommand::Profiles => {
            let profiles = verax.load_profiles().await?;
            output.answer(&profiles, |profiles| {
                let row = |p: &verax_api::LoadProfileSpec| {
                    vec![
                        p.name.clone(),
                        p.namespace.clone(),
                        p.clients.to_string(),
                        format!("{}s", p.duration_seconds),
                        p.title.clone(),
                    ]
                };
                let titles =
                    ["profile", "namespace", ">clients per lane", ">duration", "description"];
                table(&titles, profiles.iter().map(row))
            })
        }
    }
}

async fn run(verax: &Client, output: Output, request: &LoadRequest) -> Result<(), Failure> {
    let run = verax.start_load_run(request).await?;
    let view = LoadView::new(output, &run);
    let run = runs::follow(verax, run, |run| view.show(run)).await?;
    view.end();
    if let Some(reason) = &run.reason {
        return Err(Failure::failed(format!("the load run failed: {reason}")));
    }
    output.answer(&run, summary)?;
    runs::completed(&run)?;
    comparable(&run)
}

/// Fails for a run whose lanes cannot be compared.
fn comparable(run: &LoadRun) -> Result<(), Failure> {
    let doubts = run.report.as_ref().map_or(&[][..], |report| &report.doubts);
    let why: Vec<&str> = doubts.iter().map(|doubt| doubt.detail.as_str()).collect();
    match (why.is_empty(), run.state.as_str()) {
        (_, "stopped") => Err(Failure::stopped(format!("load run {} was stopped", run.id))),
        (true, _) => Ok(()),
        (false, _) => Err(Failure::partial(format!("not comparable: {}", why.join("; ")))),
    }
}

fn table_of(runs: &[LoadRun]) -> String {
    let row = |run: &LoadRun| {
        let report = run.report.as_ref();
        let ms = |ms: Option<Option<f64>>| figures::milliseconds_or_none(ms.flatten());
        vec![
            run.id.to_string(),
            run.started_at.strftime("%Y-%m-%d %H:%M:%S UTC").to_string(),
            run.profile.name.clone(),
            run.state.clone(),
            ms(report.map(|r| r.cached.p50_ms)),
            ms(report.map(|r| r.direct.p50_ms)),
            match report {
                Some(report) if !report.doubts.is_empty() => "not comparable".to_owned(),
                _ => figures::times(report.and_then(|r| r.comparison.times_faster_p50)),
            },
        ]
    };
    let titles =
        [">run", "started", "profile", "state", ">cached p50", ">direct p50", ">times faster"];
    table(&titles, runs.iter().map(row))
}
