//! The console in a real browser, driven through the WebDriver standard.

use std::{
    fs,
    process::{Command, Stdio},
    time::{Duration, Instant},
};

use fantoccini::{Client, ClientBuilder, Locator};
use hyper_util::client::legacy::connect::HttpConnector;
use serde_json::json;

use crate::quay::{Process, shared};

pub struct Browser {
    pub client: Client,
    _driver: Process,
    _profile: Profile,
}

/// Where a browser keeps what is its own. With it the browser ends, also where its driver was ended before it, or a trial fails.
struct Profile(tempfile::TempDir);

impl Drop for Profile {
    fn drop(&mut self) {
        let place = format!("--user-data-dir={}", self.0.path().display());
        for entry in fs::read_dir("/proc").into_iter().flatten().flatten() {
            let Some(pid) = entry.file_name().to_str().and_then(|name| name.parse::<i32>().ok()) else { continue };
            let command = fs::read(entry.path().join("cmdline")).unwrap_or_default();
            if command.split(|byte| *byte == 0).any(|word| word == place.as_bytes()) {
                // SAFETY: plain numbers; the process is the browser that was started with this profile.
                unsafe { libc::kill(pid, libc::SIGKILL) };
            }
        }
    }
}

pub async fn browser(width: u32, height: u32) -> Browser {
    let port = std::net::TcpListener::bind("127.0.0.1:0").and_then(|l| l.local_addr()).expect("a port").port();
    let mut driver = Command::new("chromedriver");
    driver.arg(format!("--port={port}")).stdout(Stdio::null()).stderr(Stdio::null());
    let driver = Process(driver.spawn().expect("chromedriver is installed"));
    let profile = Profile(tempfile::tempdir().expect("a profile"));
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
    arguments.push(format!("--user-data-dir={}", profile.0.path().display()));
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
    pub async fn text(&self) -> String {
        let script = "return document.body ? document.body.innerText : ''";
        let text = self.client.execute(script, vec![]).await.expect("the page answers");
        text.as_str().unwrap_or_default().to_owned()
    }

    /// Waits until the page shows all of these.
    pub async fn shows(&self, wanted: &[&str]) {
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

    pub async fn click(&self, xpath: &str) {
        let since = Instant::now();
        loop {
            let wait = self.client.wait().at_most(Duration::from_secs(30));
            let element = wait.for_element(Locator::XPath(xpath)).await.unwrap_or_else(|e| panic!("{xpath}: {e}"));
            // As a person has it before the eyes, and not half under the strip at the top.
            let centre = "arguments[0].scrollIntoView({ block: 'center' })";
            let argument = serde_json::to_value(&element).expect("an element");
            let clicked = match self.client.execute(centre, vec![argument]).await {
                Ok(_) => element.click().await,
                Err(e) => Err(e),
            };
            match clicked {
                Ok(()) => return,
                // What is drawn anew in that moment is clicked a moment later, as a person would.
                Err(e) => assert!(since.elapsed() < Duration::from_secs(10), "{xpath}: {e}"),
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    }

    /// Types into the field with that id.
    pub async fn types(&self, id: &str, text: &str) {
        let wait = self.client.wait().at_most(Duration::from_secs(30));
        let field = wait.for_element(Locator::Id(id)).await.unwrap_or_else(|e| panic!("{id}: {e}"));
        field.send_keys(text).await.expect("typing");
    }

    /// Types into a field that is found by how it is styled.
    async fn types_into(&self, css: &str, text: &str) {
        let field = self.client.wait().at_most(Duration::from_secs(30)).for_element(Locator::Css(css)).await;
        field.unwrap_or_else(|e| panic!("{css}: {e}")).send_keys(text).await.expect("typing");
    }

    /// Waits until what the page shows is drawn: nothing is on its way, pictures are there, and two frames were drawn since.
    pub async fn settled(&self) {
        let drawn = r#"
            const done = arguments[arguments.length - 1];
            const loading = document.readyState !== "complete" || document.querySelector(".loading") !== null
                || [...document.images].some((image) => !image.complete);
            requestAnimationFrame(() => requestAnimationFrame(() => done(!loading)));"#;
        let since = Instant::now();
        while self.client.execute_async(drawn, vec![]).await.expect("the page answers") != json!(true) {
            assert!(since.elapsed() < Duration::from_secs(60), "it is never drawn:\n{}", self.text().await);
        }
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
    page.shows(&["Name", "Password", "Sign in"]).await;
    page.click("//button[text()='With a token']").await;
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
    pick.send_keys("regex:(").await.expect("typing");
    page.click("//button[text()='Start']").await;
    page.shows(&["the pattern \"regex:(\" cannot be read"]).await;
    // A backspace for each character, as a person would.
    pick.send_keys(&"\u{e003}".repeat(7)).await.expect("typing");
    let label = page.client.find(Locator::Id("labels")).await.expect("the field");
    label.send_keys("release=1187").await.expect("typing");
    page.click("//button[text()='Start']").await;
    page.shows(&["/ runs / seen / 1"]).await;
    page.shows(&["◆ failed", "1 of 3 failed", "expected Closed, got Boarding"]).await;

    // An entry's page shows its attempts, what they said and printed, pictures in place, and its record.
    page.click("//div[@role='row']//a[contains(.,'late')]").await;
    page.shows(&["/ runs / seen / 1 / tests / ", "Of its last runs", "Pictures compared"]).await;
    page.shows(&["Attempt 1:", "Attempt 2:", "a word of gate/late", "1 retry, from [retry] in kesmo.toml"]).await;
    let width =
        "const i = document.querySelector('.pictures img'); i && i.scrollIntoView(); return i ? i.naturalWidth : 0";
    let since = Instant::now();
    while page.client.execute(width, vec![]).await.expect("the page answers") != json!(1) {
        assert!(since.elapsed() < Duration::from_secs(20), "the picture is shown");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }

    // Filters by outcome and name, which stand in the address.
    page.click("//a[contains(.,'← seen/1')]").await;
    page.click("//button[contains(@class,'filter')][contains(.,'passed')]").await;
    page.shows(&["gate/a"]).await;
    let filter = page.client.find(Locator::Css("input[aria-label='Filter by name']")).await.expect("the field");
    filter.send_keys("gate/b").await.expect("typing");
    let since = Instant::now();
    while page.text().await.contains("gate/a") {
        assert!(since.elapsed() < Duration::from_secs(20), "the filter by name works");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let address = page.client.current_url().await.expect("an address");
    assert_eq!(address.query(), Some("state=passed&name=gate%2Fb"));

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
        quay.wait(&quay.tap("small", "gate/a_rather_long_name_of_a_test/that_goes_on", "echo \"ok - $t\"", ""), &[]);
    assert_eq!(status, 0, "{said}");
    let page = browser(500, 844).await;
    page.client.goto(&format!("{}/runs/small/1#token={}", quay.url, quay.token())).await.expect("the link");
    page.shows(&["● passed", "that_goes_on"]).await;
    assert!(page.fits().await, "a run");
    let places = [
        ("Now", "Just ended"),
        ("Suites", "small"),
        ("Workers", "heron"),
        ("Start", "Start a run"),
        ("Runs", "small/1"),
    ];
    for (place, shows) in places {
        page.click(&format!("//nav[@aria-label='Places']/a[text()='{place}']")).await;
        page.shows(&[shows]).await;
        page.settled().await;
        assert!(page.fits().await, "{place}");
    }
    let pages = [("/runs/small/1/tests/0", "Attempt 1"), ("/suites/small", "By number of shards"), ("/wall", "small")];
    for (at, shows) in pages {
        page.client.goto(&format!("{}{at}", quay.url)).await.expect("the page");
        page.shows(&[shows]).await;
        page.settled().await;
        assert!(page.fits().await, "{at}");
    }
    page.client.clone().close().await.expect("the browser ends");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_console_shows_forecasts_parks_causes_and_variants() {
    if std::env::var_os("KESMO_NO_BROWSER").is_some() {
        return;
    }
    let quay = shared();
    let body = r#"
case $t in
    gate/late*) if [ $KESMO_FACET_SCREEN = phone ]; then printf 'not ok - %s\n# no answer after %s ms\n' $t ${#t}; else echo "ok - $t"; fi ;;
    *) sleep 0.1; echo "ok - $t" ;;
esac"#;
    let names = "gate/a gate/b gate/c gate/late1 gate/late22";
    let folder = quay.tap("explained", names, body, "[facets]\nscreen = [\"phone\", \"desk\"]");
    assert!(quay.kesmo(&["suite", "add", &folder.to_string_lossy()]).status.success());
    assert_eq!(quay.kesmo(&["start", "explained", "--wait"]).status.code(), Some(1));
    let page = browser(1280, 1000).await;
    page.client.goto(&format!("{}/runs/explained/1#token={}", quay.url, quay.token())).await.expect("the link");

    // Failures of one cause stand together, variants side by side; an attempt says what was around it.
    page.shows(&["Causes", "2 tests", "no answer after <n> ms", "screen=phone", "screen=desk"]).await;
    page.shows(&["2 tests do not end the same in all variants", "all 10 tests"]).await;
    page.click("//div[@role='row']//a[contains(.,'late22') and contains(.,'screen=phone')]").await;
    page.shows(&["before it in its process:", "slots busy"]).await;

    // The suite's page has the forecast and the parked tests.
    page.client.goto(&format!("{}/suites/explained", quay.url)).await.expect("the suite");
    page.shows(&["By number of shards", "slot-minutes", "No number goes below", "None is set aside."]).await;
    let points = "return document.querySelectorAll('.forecast circle').length";
    let since = Instant::now();
    while page.client.execute(points, vec![]).await.expect("the page answers") != json!(32) {
        assert!(since.elapsed() < Duration::from_secs(20), "a point for each number of shards");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let fill = |css: &'static str, text: &'static str| {
        let client = page.client.clone();
        async move { client.find(Locator::Css(css)).await.expect(css).send_keys(text).await.expect("typing") }
    };
    fill("input[aria-label='Test or pattern']", "gate/lte").await;
    fill("input[aria-label='Why']", "the tide is out").await;
    page.click("//button[text()='Park']").await;
    page.shows(&["no test of explained matches gate/lte"]).await;
    fill("input[aria-label='Test or pattern']", "\u{e003}\u{e003}ate*").await;
    page.click("//button[text()='Park']").await;
    page.shows(&["gate/late*", "the tide is out", "Take back"]).await;
    let parked = quay.kesmo(&["start", "explained", "--wait"]);
    assert_eq!(parked.status.code(), Some(0), "{}", crate::quay::all_said(&parked));
    page.click("//button[text()='Take back']").await;
    page.shows(&["None is set aside."]).await;

    // The start form asks for an order and a priority, and shows what it would take.
    page.client.goto(&format!("{}/start?suite=explained", quay.url)).await.expect("the form");
    page.shows(&["recently failed first", "Priority", "slot-minutes"]).await;
    fill("#repeat", "2").await;
    page.click("//option[text()='shuffled by the seed']").await;
    page.click("//option[text()='high']").await;
    page.click("//button[text()='Start']").await;
    page.shows(&["/ runs / explained / 3", "2 times each, shuffled with seed", "high"]).await;
    page.client.clone().close().await.expect("the browser ends");
}

/// Replaces what stands in a field.
async fn fill(page: &Browser, id: &str, text: &str) {
    let field = page.client.wait().for_element(Locator::Id(id)).await.unwrap_or_else(|e| panic!("{id}: {e}"));
    // As a person would: everything is selected, and typed over.
    field.send_keys(&format!("\u{e009}a\u{e000}\u{e017}{text}")).await.expect("typing");
}

/// Chooses of a list, whose choices may have to be read first.
async fn choose(page: &Browser, id: &str, label: &str) {
    let choice = format!("//select[@id='{id}']/option[.='{label}']");
    let choice = page.client.wait().for_element(Locator::XPath(&choice)).await;
    choice.unwrap_or_else(|e| panic!("{label} of {id}: {e}")).click().await.expect("it is chosen");
}

#[tokio::test(flavor = "multi_thread")]
async fn briefs_schedules_and_webhooks_are_made_in_the_console() {
    if std::env::var_os("KESMO_NO_BROWSER").is_some() {
        return;
    }
    let quay = shared();
    let folder = quay.tap("clicked", "gate/open gate/shut slow/late", "echo \"ok - $t\"", "");
    assert!(quay.kesmo(&["suite", "add", &folder.to_string_lossy()]).status.success());
    assert!(quay.kesmo(&["start", "clicked", "--wait"]).status.success());
    let page = browser(1280, 1000).await;
    page.client.goto(&format!("{}/briefs/new?suite=clicked#token={}", quay.url, quay.token())).await.expect("the link");

    // What a brief would run is shown as it is typed, and what would run nothing says what is near.
    page.shows(&["A new brief", "all 3 tests", "slow/late"]).await;
    fill(&page, "pick", "gaet/**").await;
    page.shows(&["none is chosen by --pick gaet/**", "gate/"]).await;
    fill(&page, "pick", "gate/**").await;
    page.shows(&["2 of 3 tests: pick gate/**"]).await;
    fill(&page, "called", "clicked-gates").await;
    fill(&page, "retries", "1").await;
    page.click("//button[text()='Save']").await;
    page.shows(&["clicked-gates", "never run", "Start as saved"]).await;
    let saved = quay.json(&["brief", "show", "clicked-gates"]);
    assert_eq!(
        (&saved["brief"]["options"]["pick"], &saved["brief"]["options"]["retries"]),
        (&json!(["gate/**"]), &json!(1))
    );
    page.click("//button[text()='Start as saved']").await;
    page.shows(&["/ runs / clicked / 2", "● passed", "clicked-gates"]).await;

    // A schedule says when it would start, and what is wrong with it, before it is saved.
    page.client.goto(&format!("{}/schedules", quay.url)).await.expect("the page");
    page.click("//button[text()='Make a schedule']").await;
    page.shows(&["At 02:15, Monday to Friday"]).await;
    fill(&page, "schedule-name", "clicked-nights").await;
    choose(&page, "schedule-starts", "brief clicked-gates").await;
    fill(&page, "schedule-when", "75 2 * * *").await;
    page.shows(&["field 1 (minute) is \"75\""]).await;
    fill(&page, "schedule-when", "30 6 * * sun").await;
    fill(&page, "schedule-zone", "Europe/Olso").await;
    page.shows(&["did you mean Europe/Oslo?"]).await;
    fill(&page, "schedule-zone", "Europe/Oslo").await;
    page.shows(&["At 06:30, Sunday (Europe/Oslo)"]).await;
    page.click("//button[text()='Save']").await;
    page.shows(&["clicked-nights", "None was due yet", "Next: Sun"]).await;
    page.click("//button[text()='Pause']").await;
    page.shows(&["▭ It is paused: nothing starts."]).await;
    page.click("//button[text()='Start now']").await;
    page.shows(&["/ runs / clicked / 3", "schedule clicked-nights"]).await;

    // A webhook tells its secret once; a body can be tried on it.
    page.client.goto(&format!("{}/webhooks", quay.url)).await.expect("the page");
    page.click("//button[text()='Make a webhook']").await;
    fill(&page, "webhook-name", "clicked-push").await;
    choose(&page, "webhook-brief", "clicked-gates").await;
    fill(&page, "webhook-takes", "label.author=/author").await;
    fill(&page, "webhook-whens", "/branch=*").await;
    page.click("//button[text()='Make it']").await;
    page.shows(&["whsec_", "It is shown this once"]).await;
    page.click("//main//a[text()='clicked-push']").await;
    page.shows(&["Nothing came yet."]).await;
    let body = page.client.find(Locator::Css("textarea[aria-label=Body]")).await.expect("the field");
    body.send_keys("{\"branch\": \"main\", \"author\": \"Ada\"}").await.expect("typing");
    page.click("//button[text()='What would it do?']").await;
    page.shows(&["≈ started", "author = \"Ada\""]).await;
    page.client.clone().close().await.expect("the browser ends");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_first_suite_file_is_written_in_the_console_and_a_park_says_where_it_holds() {
    if std::env::var_os("KESMO_NO_BROWSER").is_some() {
        return;
    }
    let quay = shared();
    let folder = quay.tap("placed", "gate/open gate/late", "echo \"ok - $t\"", "[env-for.ci]\nGATE = \"north\"\n");
    assert!(quay.kesmo(&["suite", "add", &folder.to_string_lossy()]).status.success());
    let page = browser(1280, 1000).await;
    page.client.goto(&format!("{}/suites#token={}", quay.url, quay.token())).await.expect("the link");
    page.click("//a[text()='Write a first suite file']").await;
    page.shows(&["A first suite file", "suite = \"my-suite\"", "each = \"file\"", "ls tests/*.sh"]).await;
    fill(&page, "draft-name", "Ferry Desk").await;
    page.shows(&["the suite's name", "Ferry Desk"]).await;
    fill(&page, "draft-name", "ferry-desk").await;
    fill(&page, "draft-files", "desk/*.py").await;
    fill(&page, "draft-rerun", "python3 {name} --only {cases-file}").await;
    page.shows(&["suite = \"ferry-desk\"", "run = [\"python3\", \"{name}\"]", "rerun = [\"python3\""]).await;
    choose(&page, "draft-kind", "It ends with status 0 if it passed").await;
    page.shows(&["results = \"exit\""]).await;
    fill(&page, "draft-limit", "soon").await;
    page.shows(&["[limits]", "soon"]).await;
    fill(&page, "draft-limit", "2m").await;
    // What the page shows is a suite file.
    page.shows(&["test = \"2m\""]).await;
    let text = page.client.find(Locator::Css("pre.command")).await.expect("the text").text().await.expect("a text");
    let drafted = quay.path("drafted-in-console");
    std::fs::create_dir_all(&drafted).expect("a folder");
    std::fs::write(drafted.join("kesmo.toml"), text).expect("the file");
    let checked = quay.kesmo(&["suite", "check", &drafted.to_string_lossy()]);
    assert!(checked.status.success(), "{}", crate::quay::all_said(&checked));

    page.client.goto(&format!("{}/suites/placed", quay.url)).await.expect("the suite");
    page.shows(&["None is set aside."]).await;
    let typed = |label: &'static str, text: &'static str| {
        let client = page.client.clone();
        let css = format!("input[aria-label='{label}']");
        async move { client.find(Locator::Css(&css)).await.expect(label).send_keys(text).await.expect("typing") }
    };
    typed("Test or pattern", "gate/late").await;
    typed("Why", "no fog horn there").await;
    typed("Where it holds", "env=cii").await;
    page.click("//button[text()='Park']").await;
    page.shows(&["did you mean \"ci\"?"]).await;
    typed("Where it holds", "\u{e003}").await;
    page.click("//button[text()='Park']").await;
    page.shows(&["gate/late", "Only where env=ci.", "no fog horn there"]).await;
    page.client.clone().close().await.expect("the browser ends");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_new_histories_flaky_tests_and_releases_have_their_pages() {
    if std::env::var_os("KESMO_NO_BROWSER").is_some() {
        return;
    }
    let quay = shared();
    let body = "case $t in bad) echo \"not ok - $t\"; echo '# the tide was late' ;; \
        wobbly) if mkdir \"$MARKS/w\" 2>/dev/null; then echo \"not ok - $t\"; echo '# the board wobbled'; else rmdir \"$MARKS/w\"; echo \"ok - $t\"; fi ;; \
        *) echo \"ok - $t\" ;; esac";
    let marks = quay.path("console-marks");
    std::fs::create_dir_all(&marks).expect("a folder");
    let more = format!("[retry]\ntimes = 1\n[env]\nMARKS = {:?}", marks.display().to_string());
    let folder = quay.tap("leafed", "good wobbly", body, &more);
    for _ in 0..3 {
        assert_eq!(quay.wait(&folder, &["--label", "page=7"]).0, 0);
    }
    quay.tap("leafed", "good wobbly bad", body, &more);
    assert_eq!(quay.wait(&folder, &["--label", "page=7"]).0, 1);
    let page = browser(1280, 900).await;
    let url = &quay.url;
    page.client.goto(&format!("{url}/#token={}", quay.token())).await.expect("the page opens");
    page.shows(&["Now"]).await;
    let open = async |path: &str| page.client.goto(&format!("{url}{path}")).await.expect("the page opens");
    open("/runs/leafed/4").await;
    page.shows(&["Against", "leafed/3", "1 newly failing", "the tide was late"]).await;
    page.click("//a[text()='compare']").await;
    page.shows(&["leafed/4 compared", "the last run of all tests", "Newly failing", "not there → ◆ failed", "New"])
        .await;
    page.click("//button[text()='the last of an earlier day']").await;
    page.shows(&["It is compared with nothing: there is no run of all tests of an earlier day."]).await;
    open("/flaky").await;
    page.shows(&["wobbly", "◐ 4 of 4", "the board wobbled"]).await;
    open("/suites/leafed?test=bad&variant=").await;
    page.shows(&["When it failed", "not mended yet", "Of its last runs: failed 1 of 1"]).await;
    open("/suites/leafed?test=wobbly&variant=").await;
    // Of so few attempts something may go with it by chance.
    page.shows(&["What it took", "What its failing goes with", "flaky 4 of 4"]).await;
    open("/release?label=page%3D7").await;
    page.shows(&["◆ failed", "page=7", "Still failing in leafed", "bad", "No run of it"]).await;
    open("/release?label=page%3D8").await;
    page.shows(&["no run with the label page=8"]).await;
    assert!(page.fits().await, "nothing stands beyond the page's side");
    page.client.clone().close().await.expect("the browser ends");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_docs_are_read_and_searched_in_the_console() {
    if std::env::var_os("KESMO_NO_BROWSER").is_some() {
        return;
    }
    let quay = shared();
    let page = browser(1280, 800).await;
    page.client.goto(&format!("{}/docs#token={}", quay.url, quay.token())).await.expect("the page");
    page.shows(&["The calls of the API", "What is protected from whom"]).await;
    page.click("//nav[@aria-label='Docs']//a[text()='What is protected from whom']").await;
    page.shows(&["A suite file names secrets, and how its processes get them"]).await;
    // Links lead to other pages of the docs, at their headings.
    let leads = page.client.find_all(Locator::Css("article a[href^='/docs/']")).await.expect("links");
    assert!(!leads.is_empty());
    page.types_into("input[aria-label='Find in the docs']", "senders together").await;
    page.shows(&["One load from many slots", "in Measures"]).await;
    page.click("//a[text()='One load from many slots']").await;
    page.types_into("input[aria-label='Find in the docs']", &"\u{e003}".repeat(20)).await;
    page.shows(&["runs every test on so many slots at once"]).await;
    page.types_into("input[aria-label='Find in the docs']", "zeppelin").await;
    page.shows(&["Nothing in the docs has all of these words: zeppelin"]).await;
    page.client.goto(&format!("{}/docs/api", quay.url)).await.expect("the page");
    page.shows(&["POST /api/runs", "Starts a run. It is answered at once", "GET /api/report-schema"]).await;
    // Every link of a doc to another leads to one.
    let docs = crate::quay::repository("docs");
    for entry in std::fs::read_dir(&docs).expect("docs").flatten() {
        let text = if entry.path().extension().is_some_and(|e| e == "md") {
            std::fs::read_to_string(entry.path()).expect("text")
        } else {
            continue;
        };
        for link in text.split("](").skip(1).filter_map(|rest| rest.split(')').next()) {
            let file = link.split('#').next().unwrap_or_default();
            let there = file.is_empty() || file.contains("://") || docs.join(file).exists();
            assert!(there, "{}: {link} leads nowhere", entry.path().display());
        }
    }
    page.client.clone().close().await.expect("the browser ends");
}
