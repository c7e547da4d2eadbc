//! A headless Chromium, driven through WebDriver.

use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;

use tempfile::TempDir;
use thirtyfour::prelude::*;

use crate::process::Process;
use crate::wait::until_some;

/// How long a page may take to show something; less than what [`until_some`] allows.
const PATIENCE: Duration = Duration::from_secs(45);

/// A headless Chromium of 1280×800.
#[derive(Debug)]
pub struct Browser {
    /// The session.
    pub page: WebDriver,
    // Ends the browser too, which the driver started.
    _driver: Process,
    _profile: TempDir,
}

impl Browser {
    /// Starts Debian's Chromium and its driver on a free port.
    pub async fn start() -> Self {
        // Another crate may have installed a provider already; either works.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let driver = Command::new("chromedriver")
            .arg(format!("--port={port}"))
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .map(Process)
            .expect("chromedriver is needed: apt-get install chromium-driver");
        let profile = tempfile::tempdir().unwrap();
        let mut capabilities = DesiredCapabilities::chrome();
        for argument in [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-dev-shm-usage",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--hide-scrollbars",
            // A dialog is there or not, and never half faded.
            "--force-prefers-reduced-motion",
            "--force-device-scale-factor=1",
            // The window is 143 pixels higher than the page in it.
            "--window-size=1280,943",
            &format!("--user-data-dir={}", profile.path().display()),
        ] {
            capabilities.add_arg(argument).unwrap();
        }
        let url = format!("http://127.0.0.1:{port}");
        let page = until_some("the browser has started", async || {
            WebDriver::new(&url, capabilities.clone()).await.ok()
        })
        .await;
        Self { page, _driver: driver, _profile: profile }
    }

    /// Waits for an element and returns its text once it satisfies a condition.
    pub async fn text_when(&self, selector: &str, holds: impl Fn(&str) -> bool) -> String {
        let seen = std::cell::RefCell::new(String::new());
        let look = async || {
            let element = self.page.find(By::Css(selector)).await.ok()?;
            let text = element.text().await.ok()?;
            seen.replace(text.clone());
            holds(&text).then_some(text)
        };
        let found = tokio::time::timeout(PATIENCE, until_some(selector, look)).await;
        found.unwrap_or_else(|_| panic!("{selector} keeps showing {:?}", seen.borrow()))
    }

    /// Clicks an element once it is there.
    pub async fn click(&self, by: By) {
        until_some(&format!("{by:?} can be clicked"), async || {
            self.page.find(by.clone()).await.ok()?.click().await.ok()
        })
        .await;
    }

    /// Panics if an automated accessibility check (axe-core) finds anything on the page as it is.
    pub async fn assert_accessible(&self, what: &str) {
        let script = Path::new(env!("CARGO_MANIFEST_DIR"))
            .join("../../console/node_modules/axe-core/axe.min.js");
        self.page.execute(std::fs::read_to_string(script).unwrap(), vec![]).await.unwrap();
        let script = "const done = arguments[arguments.length - 1]; \
            axe.run(document, { resultTypes: ['violations'] }).then(r => done(r.violations.map(v => \
            v.id + ': ' + v.help + ' — ' + v.nodes.map(n => n.html.slice(0, 160)).join(' | '))))";
        let findings = self.page.execute_async(script, vec![]).await.unwrap();
        let findings: Vec<String> = findings.convert().unwrap();
        assert!(findings.is_empty(), "{what}: {findings:#?}");
    }

    /// Saves a picture of what is seen.
    pub async fn picture(&self, path: &Path) {
        self.page.screenshot(path).await.unwrap();
    }
}
