//! Recordings of traffic.

use verax_api::{RecordTraffic, TrafficRecording};
use verax_client::Client;

use super::super::runs;
use crate::arguments::RecordingCommand;
use crate::failure::Failure;
use crate::figures;
use crate::output::{Output, table};

pub(super) async fn recording(
    verax: &Client,
    output: Output,
    command: RecordingCommand,
) -> Result<(), Failure> {
    match command {
        RecordingCommand::Start { namespace, length, hash_keys } => {
            let request = RecordTraffic { namespace, seconds: length.as_secs_f64(), hash_keys };
            record(verax, output, &request).await
        }
        RecordingCommand::List => {
            let recordings = verax.runs::<TrafficRecording>().await?;
            output.answer(&recordings, |recordings| table_of(recordings))
        }
        RecordingCommand::Show { recording } => {
            let recording = verax.recording(recording).await?;
            output.answer(&recording, summary)
        }
        RecordingCommand::Stop { recording } => {
            runs::stop::<TrafficRecording>(verax, output, recording).await
        }
    }
}

async fn record(verax: &Client, output: Output, request: &RecordTraffic) -> Result<(), Failure> {
    let run = verax.record_traffic(request).await?;
    output.remark(format!("recording {}; Ctrl-C ends it", run.id));
    let mut said = 0.0;
    let run = runs::follow(verax, run, |run: &TrafficRecording| {
        if run.state == "running" && run.seconds >= said + 10.0 {
            said = run.seconds;
            let reads = figures::count(run.reads);
            output.remark(format!("{:.0} of {:.0} s, {reads} reads", said, run.asked_seconds));
        }
    })
    .await?;
    runs::completed(&run)?;
    output.answer(&run, summary)?;
    match (&*run.state, run.reason) {
        ("failed", reason) => {
            Err(Failure::failed(reason.unwrap_or_else(|| "the recording failed".to_owned())))
        }
        _ => Ok(()),
    }
}

/// A recording, for people.
fn summary(run: &TrafficRecording) -> String {
    let mut text = format!(
        "recording {} · {} · {} · {:.1} s · {} reads of {} keys · {}",
        run.id,
        run.namespace,
        run.state,
        run.seconds,
        figures::count(run.reads),
        figures::count(run.keys),
        figures::rate(run.reads as f64 / run.seconds.max(1e-3)),
    );
    if let Some(reason) = &run.reason {
        text.push_str(&format!("\n{reason}"));
    }
    if run.missed > 0 {
        let missed = figures::count(run.missed);
        text.push_str(&format!("\n{missed} more reads came too fast to be recorded"));
    }
    if run.state != "running" && run.reads > 0 {
        let keys = match run.hash_keys {
            true => ", and keys in place of the hashed ones",
            false => "",
        };
        text.push_str(&format!(
            "\nreplay it with a profile that has arrivals = {{ recording = {}, speed = 2 }}{keys}",
            run.id
        ));
    }
    text
}

fn table_of(recordings: &[TrafficRecording]) -> String {
    let row = |run: &TrafficRecording| {
        vec![
            run.id.to_string(),
            run.started_at.strftime("%Y-%m-%d %H:%M:%S UTC").to_string(),
            run.namespace.clone(),
            run.state.clone(),
            format!("{:.1} s", run.seconds),
            figures::count(run.reads),
            figures::count(run.keys),
            if run.hash_keys { "hashed" } else { "plain" }.to_owned(),
        ]
    };
    let titles =
        [">recording", "started", "namespace", "state", ">length", ">reads", ">keys", "kept as"];
    table(&titles, recordings.iter().map(row))
}
