//! Load profiles: files, and what the service offers.

use std::path::Path;

use serde_json::json;
use verax_api::{LoadProfileSpec, OfferedProfile, SetBaseline};
use verax_client::{Client, DefinitionCondition};

use crate::arguments::LoadProfileCommand;
use crate::failure::Failure;
use crate::output::{Output, table};
use crate::profile_file::read_profile;

/// The template of `init`.
const TEMPLATE: &str = include_str!("profile.toml");

/// The JSON Schema of load profiles, from the description of the API.
const SCHEMA: &str = include_str!("../../../../../docs/load-profile.schema.json");

/// Whether a profile has a name, with its tenant or without.
pub(super) fn is_named(profile: &OfferedProfile, name: &str) -> bool {
    match name.split_once('/') {
        Some((tenant, name)) => profile.tenant == tenant && profile.spec.name == name,
        None => profile.spec.name == name,
    }
}

/// Splits TENANT/PROFILE.
fn place(path: &str) -> Result<(&str, &str), Failure> {
    path.split_once('/')
        .ok_or_else(|| Failure::usage(format!("{path:?} has no tenant: use TENANT/PROFILE")))
}

pub(super) async fn profile(
    verax: &Client,
    output: Output,
    command: LoadProfileCommand,
) -> Result<(), Failure> {
    match command {
        LoadProfileCommand::List => {
            let offered = verax.load_profiles().await?;
            output.answer(&offered, |offered| table_of(offered))
        }
        LoadProfileCommand::Show { profile } => {
            let spec = super::offered(verax, &profile).await?;
            let text = toml::to_string(&spec).map_err(|e| Failure::failed(e.to_string()))?;
            output.answer(&spec, |_| text.trim_end().to_owned())
        }
        LoadProfileCommand::Init { file, namespace } => init(output, &file, &namespace),
        LoadProfileCommand::Check { file } => {
            let spec = read_profile(&file)?;
            output.answer(&spec, |spec| format!("{} can be run: {}", file.display(), plan_of(spec)))
        }
        LoadProfileCommand::Schema => {
            let schema: serde_json::Value =
                serde_json::from_str(SCHEMA).map_err(|e| Failure::failed(e.to_string()))?;
            output.answer(&schema, |_| SCHEMA.trim_end().to_owned())
        }
        LoadProfileCommand::Store { file } => {
            let spec = read_profile(&file)?;
            let tenant = spec.namespace.split('/').next().unwrap_or_default().to_owned();
            let always = DefinitionCondition::Always;
            let stored = verax.put_load_profile(&tenant, &spec, &always).await?;
            output.answer(&stored, |stored| {
                format!("stored the load profile {}/{}", stored.tenant, stored.spec.name)
            })
        }
        LoadProfileCommand::Delete { profile } => {
            let (tenant, name) = place(&profile)?;
            verax.delete_load_profile(tenant, name).await?;
            output.answer(&json!({ "deleted": profile }), |_| {
                format!("deleted the load profile {profile}")
            })
        }
        LoadProfileCommand::Baseline { profile, run, .. } => {
            let (tenant, name) = place(&profile)?;
            let set = verax.set_load_baseline(tenant, name, SetBaseline { run }).await?;
            output.answer(&set, |_| match run {
                Some(run) => format!("later runs of {profile} are compared with run {run}"),
                None => format!("{profile} has no baseline"),
            })
        }
    }
}

/// Writes the template to a file that does not exist yet.
fn init(output: Output, file: &Path, namespace: &str) -> Result<(), Failure> {
    use std::io::Write;
    let failed = |e: std::io::Error| match e.kind() {
        std::io::ErrorKind::AlreadyExists => {
            Failure::refused(format!("{} exists already: choose another name", file.display()))
        }
        _ => Failure::failed(format!("{}: {e}", file.display())),
    };
    let text = TEMPLATE.replace("{namespace}", namespace);
    let mut created = std::fs::File::create_new(file).map_err(failed)?;
    created.write_all(text.as_bytes()).map_err(failed)?;
    output.answer(&json!({ "file": file }), |_| {
        let file = file.display();
        format!("wrote {file}: change it, then `verax load profile check {file}`")
    })
}

/// What a profile does, in a line.
fn plan_of(spec: &LoadProfileSpec) -> String {
    let Ok(profile) = spec.profile() else { return String::new() };
    let lanes: Vec<&str> = spec.lanes.iter().map(|lane| lane.name.as_str()).collect();
    let stages = profile.stages.all().iter().filter(|stage| !stage.is_warm_up).count();
    let length = verax_core::load::Timeline::of(&profile).length();
    let level = profile.arrivals.unit().with(profile.stages.highest());
    let is_whole_recording = spec.arrivals.recording.is_some() && spec.duration_seconds.is_none();
    let length = match is_whole_recording && stages == 1 {
        true => "as long as recorded at that pace".to_owned(),
        false => format!("{} s", length.as_secs_f64()),
    };
    format!(
        "lanes {}, up to {level} each, {length}{}",
        lanes.join(" and "),
        if stages > 1 { format!(" in {stages} stages") } else { String::new() }
    )
}

fn table_of(offered: &[OfferedProfile]) -> String {
    let row = |OfferedProfile { is_shipped, baseline, spec, .. }: &OfferedProfile| {
        vec![
            spec.name.clone(),
            spec.namespace.clone(),
            plan_of(spec),
            if *is_shipped { "shipped" } else { "stored" }.to_owned(),
            baseline.map_or_else(|| "–".to_owned(), |run| format!("run {run}")),
            spec.title.clone(),
        ]
    };
    let titles = ["profile", "namespace", "load", "kept", "baseline", "description"];
    table(&titles, offered.iter().map(row))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_template_can_be_run_and_so_can_its_alternatives() {
        let text = TEMPLATE.replace("{namespace}", "ferrydesk/boards");
        let spec: LoadProfileSpec = toml::from_str(&text).unwrap();
        spec.profile().unwrap();
        // Each commented table is valid by itself.
        let head = "name = \"a\"\nnamespace = \"a/b\"\n";
        let (_, commented) = text.split_once("# [[stages]]").unwrap();
        let commented: Vec<String> = format!("# [[stages]]{commented}")
            .lines()
            .filter(|line| line.starts_with("# ") && !line.ends_with(':') && !line.contains(" 8."))
            .map(|line| line.trim_start_matches("# ").to_owned())
            .collect();
        let commented = commented.join("\n");
        for name in ["[[stages]]", "[steps]", "[mix]", "[stop_when]", "[[goals]]"] {
            let tables = commented.split("\n[").map(|t| format!("[{}", t.trim_start_matches('[')));
            let is_named = |t: &String| t.starts_with(name) || format!("[{t}").starts_with(name);
            let table = tables.into_iter().find(is_named);
            let mut table = table.unwrap_or_else(|| panic!("{name} is missing"));
            if name.starts_with("[[") && !table.starts_with("[[") {
                table.insert(0, '[');
            }
            let spec = toml::from_str::<LoadProfileSpec>(&format!("{head}{table}"));
            spec.unwrap_or_else(|e| panic!("{name}: {e}")).profile().unwrap();
        }
    }
}
