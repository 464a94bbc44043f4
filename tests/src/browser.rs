//! Headless Chromium, from Debian's packages.

use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;

use thirtyfour::extensions::cdp::ChromeDevTools;
use thirtyfour::prelude::*;

use crate::{Running, until};

/// A browser with its driver, both ending with the test.
pub struct Browser {
    /// The page.
    pub page: WebDriver,
    _driver: Running,
    _profile: tempfile::TempDir,
}

const PORT: &str = "9517";

impl Browser {
    /// Opens a browser with a fresh profile.
    ///
    /// # Panics
    /// When Chromium or its driver do not start.
    pub async fn open() -> Browser {
        let profile = tempfile::tempdir().expect("a profile");
        let driver = Command::new("chromedriver")
            .arg(format!("--port={PORT}"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("chromedriver starts");
        let driver = Running::of(driver);
        until(30, "chromedriver", || crate::raw::get(&format!("127.0.0.1:{PORT}"), "/status").ok());
        let mut wishes = DesiredCapabilities::chrome();
        for flag in [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--disable-dev-shm-usage",
            "--lang=en",
        ] {
            wishes.add_arg(flag).expect("a flag");
        }
        wishes.add_arg(&format!("--user-data-dir={}", profile.path().display())).expect("a flag");
        let page = WebDriver::new(format!("http://127.0.0.1:{PORT}"), wishes)
            .await
            .expect("Chromium starts");
        page.set_implicit_wait_timeout(Duration::from_secs(10)).await.expect("a timeout");
        Browser { page, _driver: driver, _profile: profile }
    }

    /// Sets the size of the page in CSS pixels.
    ///
    /// # Panics
    /// When the browser refuses.
    pub async fn size(&self, width: u32, height: u32) {
        let metrics = serde_json::json!({ "width": width, "height": height, "deviceScaleFactor": 1, "mobile": false });
        let tools = ChromeDevTools::new(self.page.handle.clone());
        tools
            .execute_cdp_with_params("Emulation.setDeviceMetricsOverride", metrics)
            .await
            .expect("metrics");
    }

    /// Lets the console show notifications, as a person does who is asked.
    ///
    /// # Panics
    /// When the browser refuses.
    pub async fn allow_notifications(&self) {
        let origin = format!("http://127.0.0.1:{}", self.port());
        let wish = serde_json::json!({ "permissions": ["notifications"], "origin": origin });
        let tools = ChromeDevTools::new(self.page.handle.clone());
        tools
            .execute_cdp_with_params("Browser.grantPermissions", wish)
            .await
            .expect("a permission");
    }

    /// Opens a page of the console.
    ///
    /// # Panics
    /// When it cannot be loaded.
    pub async fn go(&self, path: &str) {
        self.page.goto(format!("http://127.0.0.1:{}{path}", self.port())).await.expect("a page");
    }

    fn port(&self) -> String {
        std::env::var("MOSTRA_TEST_CONSOLE_PORT").unwrap_or_else(|_| "7641".into())
    }

    /// Presses the button with this text.
    ///
    /// # Panics
    /// When there is none.
    pub async fn press(&self, text: &str) {
        let button = self.page.find(By::XPath(format!(
            "//button[normalize-space()='{text}' or @aria-label='{text}']"
        )));
        let button = button.await.unwrap_or_else(|e| panic!("a button {text:?}: {e}"));
        button
            .wait_until()
            .enabled()
            .await
            .unwrap_or_else(|e| panic!("{text:?} is not enabled: {e}"));
        // A person scrolls what they press away from under the bar at a phone's bottom edge.
        let centre = "arguments[0].scrollIntoView({ block: 'center', behavior: 'instant' })";
        let place = button.to_json().expect("an element");
        self.page.execute(centre, vec![place]).await.expect("scrolling");
        button.click().await.unwrap_or_else(|e| panic!("pressing {text:?}: {e}"));
    }

    /// Types into the field with this label.
    ///
    /// # Panics
    /// When there is none.
    pub async fn fill(&self, label: &str, text: &str) {
        let field = self
            .page
            .find(By::XPath(format!("//label[.//span[normalize-space()='{label}']]//input")));
        let field = field.await.unwrap_or_else(|e| panic!("a field {label:?}: {e}"));
        field.send_keys(Key::Control + "a").await.expect("select");
        field.send_keys(text).await.expect("type");
    }

    /// Signs in as the house, from whichever page asks for that.
    ///
    /// # Panics
    /// When the page does not ask for it.
    pub async fn sign_in(&self, password: &str) {
        self.fill("Password", password).await;
        self.press("Sign in").await;
    }

    /// Waits until the page shows a text.
    ///
    /// # Panics
    /// After 30 s without it.
    pub async fn sees(&self, text: &str) {
        let end = std::time::Instant::now() + Duration::from_secs(30);
        loop {
            let body = self.text().await;
            if body.contains(text) {
                return;
            }
            assert!(std::time::Instant::now() < end, "{text:?} is not on the page:\n{body}");
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    /// All text on the page.
    pub async fn text(&self) -> String {
        match self.page.find(By::Tag("body")).await {
            Ok(body) => body.text().await.unwrap_or_default(),
            Err(_) => String::new(),
        }
    }

    /// What axe-core finds wrong with the page, by rule and element; nothing of it should be.
    ///
    /// # Panics
    /// When it cannot be run.
    pub async fn accessibility(&self) -> Vec<String> {
        let axe = crate::top().join("console/node_modules/axe-core/axe.min.js");
        let axe = std::fs::read_to_string(axe).expect("axe-core among the console's packages");
        self.page.execute(axe, vec![]).await.expect("axe-core runs");
        let run = "const done = arguments[0]; axe.run().then(r => done(r.violations.flatMap(v => \
                   v.nodes.map(n => `${v.id}: ${n.target} ${n.failureSummary}`))), e => done([String(e)]))";
        let found = self.page.execute_async(run, vec![]).await.expect("axe-core ends");
        found.convert().expect("texts")
    }

    /// The title of the window.
    ///
    /// # Panics
    /// When the browser does not answer.
    pub async fn title(&self) -> String {
        self.page.title().await.expect("a title")
    }

    /// Saves a picture of the page.
    ///
    /// # Panics
    /// When it cannot be saved.
    pub async fn picture(&self, path: &Path) {
        self.page.screenshot(path).await.expect("a picture");
    }

    /// Closes the browser.
    pub async fn close(self) {
        let _ = self.page.clone().quit().await;
    }
}
