//! The console in a real browser, driven through the WebDriver standard.

use std::{
    process::{Command, Stdio},
    time::{Duration, Instant},
};

use fantoccini::{Client, ClientBuilder, Locator};
use hyper_util::client::legacy::connect::HttpConnector;
use serde_json::json;

use crate::quay::{Process, shared};

struct Browser {
    client: Client,
    _driver: Process,
    _profile: tempfile::TempDir,
}

async fn browser(width: u32, height: u32) -> Browser {
    let port = std::net::TcpListener::bind("127.0.0.1:0").and_then(|l| l.local_addr()).expect("a port").port();
    let mut driver = Command::new("chromedriver");
    driver.arg(format!("--port={port}")).stdout(Stdio::null()).stderr(Stdio::null());
    let driver = Process(driver.spawn().expect("chromedriver is installed"));
    let profile = tempfile::tempdir().expect("a profile");
    let mut arguments: Vec<String> = [
        "--headless",
        "--no-sandbox",
        "--disable-gpu",
        "--disable-quic",
        "--no-first-run",
        "--disable-sync",
        "--disable-background-networking",
        "--disable-component-update",
        "--disable-dev-shm-usage",
    ]
    .map(str::to_owned)
    .to_vec();
    arguments.push(format!("--window-size={width},{height}"));
    arguments.push(format!("--user-data-dir={}", profile.path().display()));
    let mut capabilities = serde_json::map::Map::new();
    capabilities.insert("goog:chromeOptions".into(), json!({ "args": arguments }));
    let url = format!("http://127.0.0.1:{port}");
    let since = Instant::now();
    loop {
        match ClientBuilder::new(HttpConnector::new()).capabilities(capabilities.clone()).connect(&url).await {
            Ok(client) => return Browser { client, _driver: driver, _profile: profile },
            Err(e) => assert!(since.elapsed() < Duration::from_secs(60), "no browser: {e}"),
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

impl Browser {
    async fn text(&self) -> String {
        let script = "return document.body ? document.body.innerText : ''";
        let text = self.client.execute(script, vec![]).await.expect("the page answers");
        text.as_str().unwrap_or_default().to_owned()
    }

    /// Waits until the page shows all of these.
    async fn shows(&self, wanted: &[&str]) {
        let since = Instant::now();
        loop {
            let text = self.text().await;
            if wanted.iter().all(|w| text.contains(w)) {
                return;
            }
            assert!(since.elapsed() < Duration::from_secs(60), "waited for {wanted:?}; the page shows:\n{text}");
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    async fn click(&self, xpath: &str) {
        let wait = self.client.wait().at_most(Duration::from_secs(30));
        let element = wait.for_element(Locator::XPath(xpath)).await.unwrap_or_else(|e| panic!("{xpath}: {e}"));
        element.click().await.unwrap_or_else(|e| panic!("{xpath}: {e}"));
    }

    async fn fits(&self) -> bool {
        let script = "return document.documentElement.scrollWidth <= window.innerWidth";
        self.client.execute(script, vec![]).await.expect("the page answers").as_bool().unwrap_or(false)
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_console_signs_in_watches_a_run_and_starts_another() {
    if std::env::var_os("KESMO_NO_BROWSER").is_some() {
        return;
    }
    let quay = shared();
    let body = r#"
[ $t = gate/b ] && sleep 1.5
printf 'iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg==' | base64 -d > "$KESMO_ARTIFACTS/shot.png"
echo "a word of $t"
if [ $t = gate/late ]; then printf 'not ok - %s\n# expected Closed, got Boarding\n' $t; else echo "ok - $t"; fi"#;
    let folder = quay.tap("seen", "gate/a gate/b gate/late", body, "[retry]\ntimes = 1");
    let add = quay.kesmo(&["suite", "add", &folder.to_string_lossy()]);
    assert!(add.status.success());
    let page = browser(1280, 800).await;

    // Without a token there is only the way in; a wrong one is told so.
    page.client.goto(&quay.url).await.expect("the console");
    page.shows(&["Token", "Sign in"]).await;
    let field = page.client.find(Locator::Id("token")).await.expect("the field");
    field.send_keys("kesmo-wrong").await.expect("typing");
    page.click("//button[text()='Sign in']").await;
    page.shows(&["this token is not known here"]).await;

    // A sign-in link leaves no token in the address, and none where scripts reach.
    page.client.goto(&format!("{}/start?suite=seen#token={}", quay.url, quay.token())).await.expect("the link");
    page.shows(&["Start a run", "Retries"]).await;
    assert!(!page.client.current_url().await.expect("an address").as_str().contains("token"));
    let cookie = page.client.execute("return document.cookie", vec![]).await.expect("cookies");
    assert_eq!(cookie, json!(""));

    // A form that cannot work says why; mended, it starts a run that is shown as it goes.
    let pick = page.client.find(Locator::Id("pick")).await.expect("the field");
    pick.send_keys("like:(").await.expect("typing");
    page.click("//button[text()='Start']").await;
    page.shows(&["the pattern \"like:(\" cannot be read"]).await;
    // A backspace for each character, as a person would.
    pick.send_keys(&"\u{e003}".repeat(6)).await.expect("typing");
    let label = page.client.find(Locator::Id("labels")).await.expect("the field");
    label.send_keys("release=1187").await.expect("typing");
    page.click("//button[text()='Start']").await;
    page.shows(&["/ runs / seen / 1"]).await;
    page.shows(&["◆ failed", "1 of 3 failed", "expected Closed, got Boarding"]).await;

    // An entry opened shows its attempts, what they said and printed, and pictures in place.
    page.click("//button[contains(@class,'opener')][.//span[contains(.,'late')]]").await;
    page.shows(&["Attempt 1:", "Attempt 2:", "a word of gate/late", "1 retry, from [retry] in kesmo.toml"]).await;
    let width =
        "const i = document.querySelector('.pictures img'); i && i.scrollIntoView(); return i ? i.naturalWidth : 0";
    let since = Instant::now();
    while page.client.execute(width, vec![]).await.expect("the page answers") != json!(1) {
        assert!(since.elapsed() < Duration::from_secs(20), "the picture is shown");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }

    // Filters by outcome and name.
    page.click("//button[contains(@class,'filter')][contains(.,'passed')]").await;
    page.shows(&["gate/a"]).await;
    let filter = page.client.find(Locator::Css("input[type=search]")).await.expect("the field");
    filter.send_keys("gate/b").await.expect("typing");
    let since = Instant::now();
    while page.text().await.contains("gate/a") {
        assert!(since.elapsed() < Duration::from_secs(20), "the filter by name works");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }

    // The other pages.
    page.click("//nav[@aria-label='Places']/a[text()='Suites']").await;
    page.shows(&["seen", "◆ failed"]).await;
    page.click("//nav[@aria-label='Places']/a[text()='Workers']").await;
    page.shows(&["heron", "tern", "os=linux"]).await;
    page.click("//nav[@aria-label='Places']/a[text()='Runs']").await;
    page.shows(&["seen/1", "release=1187"]).await;
    page.client.clone().close().await.expect("the browser ends");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_console_fits_a_phone() {
    if std::env::var_os("KESMO_NO_BROWSER").is_some() {
        return;
    }
    let quay = shared();
    let (status, said) =
        quay.stay(&quay.tap("small", "gate/a_rather_long_name_of_a_test/that_goes_on", "echo \"ok - $t\"", ""), &[]);
    assert_eq!(status, 0, "{said}");
    let page = browser(500, 844).await;
    page.client.goto(&format!("{}/runs/small/1#token={}", quay.url, quay.token())).await.expect("the link");
    page.shows(&["● passed", "that_goes_on"]).await;
    assert!(page.fits().await, "a run");
    for place in ["Suites", "Workers", "Start", "Runs"] {
        page.click(&format!("//nav[@aria-label='Places']/a[text()='{place}']")).await;
        tokio::time::sleep(Duration::from_millis(300)).await;
        assert!(page.fits().await, "{place}");
    }
    page.client.clone().close().await.expect("the browser ends");
}
