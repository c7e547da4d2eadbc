//! Takes the pictures in docs/screenshots from a fresh demo: the console's pages in headless
//! Chromium, the main commands' output in a terminal under Xvfb.
//!
//! Usage: screenshots DIRECTORY

#![allow(clippy::unwrap_used, clippy::expect_used)]

use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;

use thirtyfour::prelude::*;
use verax_client::LockOptions;
use verax_e2e::{Browser, Verax};

#[tokio::main]
async fn main() {
    let folder = PathBuf::from(std::env::args().nth(1).expect("give a directory"));
    let browser = Browser::start().await;
    let verax = Verax::demo(&[]);
    let picture = async |name: &str| browser.picture(&folder.join(format!("{name}.png"))).await;
    browser.page.goto(verax.sign_in_link()).await.unwrap();
    browser.text_when("[data-figure=hit-ratio]", |text| text.contains('%')).await;
    // Two minutes of history make the picture; the demo's traffic fills them.
    let seconds = std::env::var("VERAX_PICTURE_SECONDS").ok().and_then(|s| s.parse().ok());
    tokio::time::sleep(Duration::from_secs(seconds.unwrap_or(75))).await;
    picture("console-overview").await;
    browser.click(By::Css("button[aria-label='Use dark colors']")).await;
    tokio::time::sleep(Duration::from_secs(2)).await;
    picture("console-overview-dark").await;
    browser.click(By::Css("button[aria-label='Use light colors']")).await;
    browser.click(By::LinkText("Load")).await;
    browser.click(By::XPath("//button[contains(., 'Start the run')]")).await;
    browser.text_when("[data-run-state]", |text| text.contains("done")).await;
    tokio::time::sleep(Duration::from_millis(500)).await;
    picture("console-load").await;
    pages(&verax, &browser, &folder).await;
    drills_and_waiting(&verax, &browser, &folder).await;
    let token = verax.token();
    for (name, commands) in TERMINALS {
        terminal_picture(&verax, (verax.url(), &token), name, commands, &folder);
    }
}

/// Tenants with quotas, a namespace, an entry, and who may do what.
async fn pages(verax: &Verax, browser: &Browser, folder: &Path) {
    let picture = async |name: &str| {
        tokio::time::sleep(Duration::from_secs(2)).await;
        browser.picture(&folder.join(format!("{name}.png"))).await;
    };
    for change in [
        &["ferrydesk", "--reserve", "32MiB", "--cap", "128MiB", "--max-request-rate", "100000"][..],
        &["tideline", "--reserve", "16MiB", "--cap", "64MiB", "--max-connections", "40"],
        &["quayside", "--max-entries", "10000", "--max-namespaces", "5"],
    ] {
        verax.run(&[&["tenant", "change"], change].concat()).done();
    }
    for (scope, note) in [
        ("read:ferrydesk/boards", "departure board screens"),
        ("observe:tideline", "tide figures on the wall"),
        ("warm:ferrydesk", "deployment"),
    ] {
        let create = ["token", "create", "--scope", scope, "--note", note, "--expires-in", "90d"];
        verax.run(&create).done();
    }
    let open = async |path: &str| {
        browser.page.goto(format!("{}{path}", verax.url())).await.unwrap();
        browser.text_when("[data-answer]", |text| text != "…").await;
    };
    open("/tenants").await;
    picture("console-tenants").await;
    open("/tenants/ferrydesk/boards").await;
    picture("console-namespace").await;
    let key = "board%2Fquillsound";
    verax.run(&["get", "ferrydesk/boards", "board/quillsound"]).done();
    open(&format!("/entries?namespace=ferrydesk%2Fboards&key={key}")).await;
    picture("console-entries").await;
    open("/access").await;
    picture("console-access").await;
    open("/hot?namespace=ferrydesk%2Fboards").await;
    picture("console-hot").await;
    let all = ["--values", "from=origin:/harbors", "--values", "to=origin:/harbors"];
    let fill = ["warm", "fill", "ferrydesk/fares", "--no-wait", "--max-per-second", "40"];
    verax.run(&[&fill[..], &all].concat()).done();
    open("/warming").await;
    tokio::time::sleep(Duration::from_secs(6)).await;
    picture("console-warming").await;
}

/// A drill, and who waits for which lock.
async fn drills_and_waiting(verax: &Verax, browser: &Browser, folder: &Path) {
    let picture = async |name: &str| browser.picture(&folder.join(format!("{name}.png"))).await;
    browser.click(By::LinkText("Drills")).await;
    browser.click(By::XPath("//button[contains(., 'Stampede')]")).await;
    browser.text_when("[data-drill-state]", |text| text == "stampede: done").await;
    tokio::time::sleep(Duration::from_millis(500)).await;
    picture("console-drill-stampede").await;
    let berths = verax.client().namespace("quayside", "berths").unwrap();
    let options = |owner: &str, wait: u64| LockOptions {
        owner: Some(owner.into()),
        lease: Duration::from_secs(90),
        wait: Duration::from_secs(wait),
        ..LockOptions::default()
    };
    for berth in ["berth-3", "berth-7"] {
        berths.acquire_lock(berth, &options("berth desk 2", 0)).await.unwrap();
    }
    let waiting: Vec<_> = ["berth desk 1", "berth desk 4", "harbor master"]
        .map(|owner| {
            let (berths, options) = (berths.clone(), options(owner, 60));
            tokio::spawn(async move { berths.acquire_lock("berth-7", &options).await })
        })
        .into();
    one_server_fails(verax).await;
    browser.click(By::LinkText("Waiting")).await;
    browser.text_when("[data-answer]", |text| text.starts_with("3 ")).await;
    tokio::time::sleep(Duration::from_secs(2)).await;
    picture("console-waiting").await;
    waiting.iter().for_each(tokio::task::JoinHandle::abort);
}

/// Lets one of the two servers of the tide tables fail until its circuit opens.
async fn one_server_fails(verax: &Verax) {
    let origins = verax.client().origins("tideline").await.unwrap();
    let gauges = origins.iter().find(|origin| origin.name == "gauges").unwrap();
    let at = format!("{}/standin", gauges.endpoints[1].url);
    let outage = serde_json::json!({ "outage": true });
    reqwest::Client::new().put(at).json(&outage).send().await.unwrap();
    for _ in 0..8 {
        let key = "tide/oskness-pier";
        verax.run(&["get", "tideline/tables", key, "--refresh"]).done();
        verax.run(&["get", "tideline/tables", key, "--refresh"]).done();
    }
}

/// What is typed in each terminal picture.
const TERMINALS: [(&str, &[&str]); 8] = [
    (
        "cli-get",
        &[
            "verax get ferrydesk/boards board/quillsound | head -c 320; echo ' …'",
            "verax get ferrydesk/boards board/quillsound >/dev/null",
            "verax list ferrydesk/boards --limit 8",
            "verax namespace list",
        ],
    ),
    (
        "cli-warm",
        &[
            "verax warm run ferrydesk/morning-boards --dry-run",
            "verax warm run ferrydesk/morning-boards",
            "verax warm list",
            "verax schedule list",
            "verax hot ferrydesk/boards --limit 4",
            "verax memory divide",
        ],
    ),
    (
        "cli-operations",
        &[
            "verax counter add ferrydesk/boards boardings 3",
            "verax counter add ferrydesk/boards boardings -- -1",
            "verax rate-limit acquire ferrydesk/boards gate-7 --rate 2 --period 10s",
            "verax rate-limit acquire ferrydesk/boards gate-7 2 --rate 2 --period 10s; echo \"exit code $?\"",
            "verax key board harbor=aldermouth limit=10",
            "verax lifetime ferrydesk/boards board/aldermouth --max-age 5m",
            "verax tag invalidate ferrydesk/boards harbor-aldermouth",
            "printf '{\"get\":{\"key\":\"boardings\"}}' | verax batch ferrydesk/boards",
        ],
    ),
    (
        "cli-tenant",
        &[
            "verax tenant list",
            "verax tenant show ferrydesk",
            "verax tenant change tideline --reserve 240MiB; echo \"exit code $?\"",
            "verax check ferrydesk/boards",
            "verax activity list --tenant ferrydesk --action change",
        ],
    ),
    (
        "cli-lock",
        &[
            "verax lock hold quayside/berths berth-9 --owner 'desk 1' -- sh -c 'echo token $VERAX_FENCING_TOKEN; sleep 1'",
            "verax lock hold quayside/berths berth-7 --owner 'desk 1' -- true; echo \"exit code $?\"",
            "verax lock show quayside/berths berth-7",
            "verax lock list quayside/berths",
            "verax lock release quayside/berths berth-7 --force",
        ],
    ),
    ("cli-drill", &["verax drill run stampede", "verax drill run old-data --callers 5 | tail -4"]),
    ("cli-load", &["verax load run morning-rush"]),
    ("cli-watch", &["verax watch --seconds 12"]),
];

/// A picture of a terminal after some commands, or while the last one is at work.
fn terminal_picture(
    verax: &Verax,
    (url, token): (&str, &str),
    name: &str,
    commands: &[&str],
    folder: &Path,
) {
    let picture = folder.join(format!("{name}.png"));
    let mut script = String::from("clear\n");
    if name.ends_with("-running") {
        // The picture is taken while the command is at work.
        script.push_str(&format!("(sleep 8; import -window root {}) &\n", picture.display()));
    }
    for command in commands {
        // The command as it was typed, then what it does.
        let typed = command.replace('\'', "'\\''");
        script.push_str(&format!("printf '\\033[1m$ %s\\033[0m\\n' '{typed}'\n{command}\necho\n"));
    }
    if !name.ends_with("-running") {
        script.push_str(&format!("sleep 0.5\nimport -window root {}\n", picture.display()));
    }
    let file = verax.scratch(&format!("{name}.sh"));
    std::fs::write(&file, script).unwrap();
    let program = verax_e2e::program();
    let path =
        format!("{}:{}", program.parent().unwrap().display(), std::env::var("PATH").unwrap());
    let status = Command::new("xvfb-run")
        .args([
            "-a",
            "-s",
            "-screen 0 1280x800x24",
            "xterm",
            "-fa",
            "DejaVu Sans Mono",
            "-fs",
            "11",
        ])
        .args([
            "-geometry",
            "141x44+0+0",
            "-bg",
            "#fbf8f1",
            "-fg",
            "#14293a",
            "-b",
            "10",
            "+sb",
            "-e",
            "bash",
        ])
        .arg(&file)
        .env("PATH", path)
        .env("VERAX_URL", url)
        .env("VERAX_TOKEN", token)
        .status()
        .expect("xvfb-run is needed: apt-get install xvfb xauth xterm imagemagick");
    assert!(status.success() && picture.is_file(), "no picture of {name}");
}
