//! The console in headless Chromium, against the real service.

// Tests are deep trees of futures.
#![recursion_limit = "256"]

mod saved;

use serde_json::json;
use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};
use thirtyfour::prelude::*;
use zesty_testing::*;

/// A chromedriver on a port of its own, ended with this value.
struct Driver {
    child: Child,
    port: u16,
    _profile: tempfile::TempDir,
}

impl Drop for Driver {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A driver that listens. It picks one port for both address families, and gives up where one of them is taken.
fn driver() -> Option<(Child, u16)> {
    let mut child = Command::new("chromedriver")
        .arg("--port=0")
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .expect("chromedriver is installed (bin/test does)");
    let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
    let port = lines
        .by_ref()
        .map_while(Result::ok)
        .find_map(|l| l.split("successfully on port ").nth(1)?.trim_end_matches('.').parse().ok());
    if port.is_none() {
        let _ = child.kill();
        let _ = child.wait();
    }
    std::thread::spawn(move || lines.for_each(drop));
    port.map(|port| (child, port))
}

async fn browser() -> (WebDriver, Driver) {
    let (child, port) = (0..5).find_map(|_| driver()).expect("chromedriver says its port");
    let profile = tempfile::tempdir().unwrap();
    let mut caps = DesiredCapabilities::chrome();
    for argument in [
        "--headless=new",
        "--no-sandbox",
        "--disable-gpu",
        "--disable-quic",
        "--disable-dev-shm-usage",
        "--no-first-run",
        "--disable-background-networking",
        "--disable-component-update",
        "--disable-sync",
        "--window-size=1280,943",
        "--force-device-scale-factor=1",
    ] {
        caps.add_arg(argument).unwrap();
    }
    caps.add_arg(&format!("--user-data-dir={}", profile.path().display())).unwrap();
    let driver = WebDriver::new(format!("http://127.0.0.1:{port}"), caps).await.unwrap();
    (driver, Driver { child, port, _profile: profile })
}

/// The element, as soon as it is there.
async fn find(b: &WebDriver, css: &str) -> WebElement {
    let query =
        b.query(By::Css(css)).wait(std::time::Duration::from_secs(60), std::time::Duration::from_millis(50));
    query.first().await.unwrap_or_else(|e| panic!("{css}: {e}"))
}

/// The element that holds this text, as soon as there is one.
async fn find_text(b: &WebDriver, css: &str, text: &str) -> WebElement {
    let wanted = text.to_owned();
    let query = b
        .query(By::Css(css))
        .with_filter(move |e: WebElement| {
            let wanted = wanted.clone();
            // An element that was just redrawn is looked for again.
            async move { Ok(e.text().await.unwrap_or_default().contains(&wanted)) }
        })
        .wait(std::time::Duration::from_secs(60), std::time::Duration::from_millis(50));
    match query.first().await {
        Ok(element) => element,
        Err(_) => panic!(
            "no {css} with {text:?} on {}:\n{}",
            b.current_url().await.unwrap(),
            b.find(By::Css("body")).await.unwrap().text().await.unwrap()
        ),
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_whole_job_is_done_in_the_console() {
    let r = with_encoder().await;
    r.logbook(4000).await;
    r.client
        .create_collection(&json!({"name": "empty", "columns": [{"name": "v", "dimensions": 3}]}))
        .await
        .unwrap();
    let (b, driver) = browser().await;
    assert!(driver.port > 0);

    // Signed out, the page says what to do; the link signs in.
    b.goto(&r.url).await.unwrap();
    find_text(&b, "body", "zesty console").await;
    b.goto(&r.client.sign_in_link().await.unwrap()).await.unwrap();

    // Collections, then one collection.
    let table = find(&b, "[data-collections]").await.text().await.unwrap();
    assert!(table.contains("logbook") && table.contains("4,000") && table.contains("exact scan"), "{table}");
    find_text(&b, "[data-collections] a", "logbook").await.click().await.unwrap();
    find_text(&b, "[data-count]", "4,000").await;
    find_text(&b, "main", "visibility_nm").await;
    let first = find(&b, "[data-records] code").await.text().await.unwrap();
    find_text(&b, "button", "Next").await.click().await.unwrap();
    find_text(&b, "main", "page 2").await;
    find_text(&b, "[data-records]", "more like this").await;

    // What values there are; a click narrows, and the records follow.
    find(&b, "[data-nav=fields]").await.click().await.unwrap();
    find_text(&b, "[data-counted]", "4,000 records").await;
    find_text(&b, "[data-fields] button", "rescue").await.click().await.unwrap();
    let rescues = r.client.fields("logbook", Some("kind = 'rescue'"), 1).await.unwrap().n_records;
    find_text(&b, "[data-counted]", &format!("{rescues} records")).await;
    find_text(&b, "button", "Show the records").await.click().await.unwrap();
    let page = r.client.records("logbook", None, 1, Some("kind = 'rescue'"), None).await.unwrap();
    find_text(&b, "[data-records] button", &page.records[0].key).await.click().await.unwrap();
    find(&b, "[data-record] svg[role=img]").await;
    let like = r.client.search("logbook", &json!({"examples": page.records[0].key, "k": 5})).await.unwrap();
    find_text(&b, "[data-record]", &like.hits[4].key).await;
    find(&b, "[data-nav=collection]").await.click().await.unwrap();

    // A wrong recipe is refused in place; the right one builds, and serves.
    find(&b, "[data-nav=indexes]").await.click().await.unwrap();
    let recipe = find(&b, "input[aria-label=Recipe]").await;
    let write = async |text: &str| {
        recipe.send_keys(Key::Control + "a").await.unwrap();
        recipe.send_keys(text).await.unwrap();
    };
    write("grapf(links=8)").await;
    find_text(&b, "[role=alert]", "did you mean \"graph\"").await;
    // The stages follow the text, and the text the stages.
    write("cells(20) | pq(24, bits=4) | rescore(f16)").await;
    find_text(&b, "[data-explained]", "re-ranks the best candidates with f16").await;
    find_text(&b, "[data-stages]", "parts").await;
    find(&b, "[data-stages] input[id=p-center]").await.click().await.unwrap();
    find_text(&b, "[data-explained]", "subtracts the mean").await;
    assert_eq!(
        recipe.prop("value").await.unwrap().unwrap(),
        "center | cells(20) | pq(24, bits=4) | rescore(f16)"
    );
    write("cells(20, overlap=on) | bits | rescore(f32)").await;
    find_text(&b, "[data-explained]", "codes are stored in two cells or more").await;
    write("graph(links=8, build=60)").await;
    find_text(&b, "[data-explained]", "16 neighbours a node").await;
    find_text(&b, "button", "Build index").await.click().await.unwrap();
    find_text(&b, "[data-indexes]", "ready").await;
    find(&b, "[data-indexes] .lamp").await;

    // Search from the keyboard: "/" goes to the box, Enter asks.
    find(&b, "[data-nav=search]").await.click().await.unwrap();
    find(&b, "[data-query-box]").await;
    find(&b, "footer").await.click().await.unwrap();
    find(&b, "body").await.send_keys("/").await.unwrap();
    b.active_element().await.unwrap().send_keys("gale tearing at the shutters" + Key::Enter).await.unwrap();
    find(&b, "[data-verdict]").await;
    // So few records are scanned about as fast as they are walked, and the plan may take either: a narrow beam is walked.
    let url = b.current_url().await.unwrap().to_string();
    b.goto(format!("{url}&beam=10")).await.unwrap();
    find_text(&b, "[data-verdict]", "of the true 10").await;
    let hits = find(&b, "[data-hits=approximate]").await.text().await.unwrap();
    assert!(hits.matches("kind weather").count() >= 8, "{hits}");
    find(&b, "[data-hits=exact]").await;
    let url = b.current_url().await.unwrap().to_string();
    assert!(url.contains("text=gale"), "{url}");

    // A filter is applied; a broken one is pointed at in its place, and the page stays.
    let filter = find(&b, "[data-filter-box]").await;
    filter.send_keys("severity >= 4 AND yaer < 1930" + Key::Enter).await.unwrap();
    let wrong = find(&b, "[data-filter-error]").await.text().await.unwrap();
    assert!(wrong.contains("^^^^") && wrong.contains("did you mean \"year\""), "{wrong}");
    filter.clear().await.unwrap();
    filter.send_keys("severity >= 4 AND year < 1930" + Key::Enter).await.unwrap();
    find_text(&b, "[data-verdict]", "filter allows").await;
    let found = r
        .client
        .search(
            "logbook",
            &json!({"text": "gale tearing at the shutters",
        "filter": "severity >= 4 AND year < 1930"}),
        )
        .await
        .unwrap();
    find_text(&b, "[data-hits=approximate]", &found.hits[0].key).await;

    // The builder shows the text as conditions, writes text from conditions, and says what it allows.
    find(&b, "[data-build-filter]").await.click().await.unwrap();
    let shown = find_text(&b, "[data-filter-builder]", "severity").await.text().await.unwrap();
    assert!(shown.contains("≥") && shown.contains("year"), "{shown}");
    find(&b, "[data-condition]:nth-child(2) button[aria-label='Remove condition']")
        .await
        .click()
        .await
        .unwrap();
    let alone = r.client.search("logbook", &json!({"text": "x", "filter": "severity >= 4"})).await.unwrap();
    let allowed = alone.via.plan.allowed;
    find_text(&b, "[data-filter-allows]", &format!("allows {allowed} of")).await;
    let filter = find(&b, "[data-filter-box]").await;
    filter.clear().await.unwrap();
    filter.send_keys("severity >= 4 AND year < 1930").await.unwrap();
    find(&b, "[data-condition]:nth-child(2)").await;
    find_text(&b, "[data-filter-allows]", &format!("allows {} of", found.via.plan.allowed)).await;
    find(&b, "[data-build-filter]").await.click().await.unwrap();
    // The plan as a picture; hits as cards.
    find(&b, "[data-show-plan]").await.click().await.unwrap();
    find_text(&b, "[data-plan]", "records can be hits").await;
    find(&b, "[data-show-cards]").await.click().await.unwrap();
    find(&b, "ol.hits.cards").await;

    // The URL alone restores the search.
    let url = b.current_url().await.unwrap().to_string();
    b.goto("about:blank").await.unwrap();
    b.goto(&url).await.unwrap();
    find_text(&b, "[data-hits=approximate]", &found.hits[0].key).await;
    // More like one of the hits.
    find(&b, "[data-hits=approximate] .like").await.click().await.unwrap();
    let like = json!({"examples": found.hits[0].key, "filter": "severity >= 4 AND year < 1930"});
    let alike = r.client.search("logbook", &like).await.unwrap();
    find_text(&b, "[data-hits=approximate]", &alike.hits[9].key).await;
    assert!(b.current_url().await.unwrap().as_str().contains(&format!("example={}", found.hits[0].key)));
    assert!(!find(&b, "[data-hits=approximate]").await.text().await.unwrap().contains(&found.hits[0].key));

    // The next ten, without the first of them: by hand and by URL.
    find(&b, "[data-further]").await.click().await.unwrap();
    let mut deeper = like.clone();
    deeper["skip"] = json!(10);
    let next = r.client.search("logbook", &deeper).await.unwrap();
    find_text(&b, "[data-hits=approximate]", &next.hits[9].key).await;
    deeper["leave_out"] = json!([next.hits[0].key]);
    let next = r.client.search("logbook", &deeper).await.unwrap();
    let url = b.current_url().await.unwrap();
    b.goto(format!("{url}&leave_out={}", deeper["leave_out"][0].as_str().unwrap())).await.unwrap();
    find_text(&b, "[data-hits=approximate]", &next.hits[9].key).await;

    // Tuning: a sweep as a chart and a table; one click serves a beam.
    find(&b, "[data-nav=tuning]").await.click().await.unwrap();
    find(&b, "[data-run-sweep]").await.click().await.unwrap();
    find(&b, "[data-chart] canvas").await;
    let points = find(&b, "[data-points]").await.text().await.unwrap();
    assert!(points.contains("beam 256"), "{points}");
    find_text(&b, "main", "no index has seen the queries").await;
    find_text(&b, "[data-behind]", "did not find all of their true 10").await;
    find(&b, "[data-behind] canvas").await;
    find(&b, "button[aria-label='Serve with beam 100']").await.click().await.unwrap();
    find_text(&b, "header ~ main .lampmark", "graph-1 · beam 100").await;
    let serving = r.client.collection("logbook").await.unwrap().columns[0].serving.clone().unwrap();
    assert_eq!((serving.index.as_str(), serving.settings.beam), ("graph-1", Some(100)));

    // A target is solved on one half of the queries, verified on the other, and has a page of its own; so has a sweep.
    find(&b, "[data-solve]").await.click().await.unwrap();
    find_text(&b, "[data-verdict]", "Reached").await;
    assert!(b.current_url().await.unwrap().path().contains("/targets/"));
    let sweep = r.client.sweeps("logbook").await.unwrap().remove(0).id;
    b.goto(&format!("{}/c/logbook/sweeps/{sweep}", r.url)).await.unwrap();
    find(&b, "[data-chart] canvas").await;
    find_text(&b, "h1", &format!("Sweep {sweep}: graph-1")).await;

    // A worst query is looked at under the lens: what was missed is marked, and has a setting that finds it.
    b.goto(&format!("{}/c/logbook/lens?set=sampled&position=3&index=graph-1&k=10&beam=1", r.url))
        .await
        .unwrap();
    find_text(&b, "[data-lens]", "graph-1 with beam 1 found").await;
    find(&b, "[data-lens] canvas").await;
    find_text(&b, "[data-truth]", "beam").await;

    // The set that measured is listed; another one is made, and its queries are read.
    find(&b, "[data-nav=queries]").await.click().await.unwrap();
    find_text(&b, "[data-sets]", "sampled").await;
    let name = find(&b, "#set-name").await;
    name.send_keys("more").await.unwrap();
    find(&b, "[data-make-set]").await.click().await.unwrap();
    find_text(&b, "[data-sets]", "more").await.click().await.unwrap();
    find_text(&b, "[data-sets] a", "more").await.click().await.unwrap();
    find_text(&b, "[data-queries]", "Queries of more, from 0").await;

    // Live searches are watched: what was set stands there, and what was observed is drawn.
    find(&b, "[data-nav=watch]").await.click().await.unwrap();
    find(&b, "#checks").await.click().await.unwrap();
    find(&b, "[data-set-watch]").await.click().await.unwrap();
    let watched = async || r.client.watch_state("logbook", 24).await.unwrap().watch.recall.is_some();
    eventually("the watch is set", watched).await;
    let seen = async || {
        r.client.search("logbook", &json!({"text": "fog", "index": "graph-1"})).await.unwrap();
        !r.client.watch_state("logbook", 24).await.unwrap().steps.is_empty()
    };
    eventually("a search is checked", seen).await;
    b.goto(&format!("{}/c/logbook/watch", r.url)).await.unwrap();
    find(&b, "[data-observed] canvas").await;

    // Jobs are in the tray, both themes can be had, the API is described.
    find(&b, "[data-jobs]").await.click().await.unwrap();
    find_text(&b, ".tray", "sweep").await;
    find(&b, "button[aria-label='Dark theme']").await.click().await.unwrap();
    find(&b, "html.dark").await;
    find_text(&b, "header a", "API").await.click().await.unwrap();
    find_text(&b, "main", "/api/collections/{collection}/search").await;

    // An empty collection says so; every page of a collection that does not exist says that there is none.
    b.goto(&format!("{}/c/empty", r.url)).await.unwrap();
    find_text(&b, "main", "No records yet").await;
    for page in [
        "", "/load", "/records", "/fields", "/indexes", "/search", "/queries", "/tuning", "/advice",
        "/compare", "/map",
    ] {
        b.goto(&format!("{}/c/nobody{page}", r.url)).await.unwrap();
        find_text(&b, "[role=alert]", "There is no collection \"nobody\"").await;
    }
    assert!(!first.is_empty());

    // Signed out again, the cookie is worth nothing.
    find(&b, "button[aria-label='Sign this browser out']").await.click().await.unwrap();
    find_text(&b, "body", "signed out").await;
    b.quit().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_service_that_goes_away_is_said_so_in_place() {
    let r = plain().await;
    r.client
        .create_collection(&json!({"name": "points", "columns": [{"name": "v", "dimensions": 2}]}))
        .await
        .unwrap();
    let (b, _driver) = browser().await;
    b.goto(&r.client.sign_in_link().await.unwrap()).await.unwrap();
    find_text(&b, "[data-collections] a", "points").await.click().await.unwrap();
    find(&b, "[data-nav=search]").await.click().await.unwrap();
    find(&b, "[data-query-box]").await.send_keys("fog" + Key::Enter).await.unwrap();
    find_text(&b, "[role=alert]", "no-encoder").await;
    let _folder = r.stop().await;
    find(&b, "[data-query-box]").await.send_keys(" bell" + Key::Enter).await.unwrap();
    find_text(&b, "[role=alert]", "The service does not answer").await;
    b.quit().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_becomes_a_collection_and_a_model_is_changed_in_the_console() {
    let r = with_encoder().await;
    let folder = tempfile::tempdir().unwrap();
    let file = |name: &str, text: String| {
        let path = folder.path().join(name);
        std::fs::write(&path, text).unwrap();
        path.display().to_string()
    };
    let (b, _driver) = browser().await;
    b.goto(&r.client.sign_in_link().await.unwrap()).await.unwrap();

    // Drop, look, map: the key is found, a type is chosen, an encoder reads the note.
    find(&b, "[data-new]").await.click().await.unwrap();
    let rows: String =
        (0..300).map(|i| format!("n{i},{},\"fog over the bay, day {i}\"\n", 1900 + i % 60)).collect();
    let notes = file("notes.csv", format!("id,year,note\n{rows}"));
    find(&b, "input[data-file=main]").await.send_keys(&notes).await.unwrap();
    let found = find(&b, "[data-found]").await.text().await.unwrap();
    assert!(found.contains("year") && found.contains("note") && !found.contains("\nid"), "{found}");
    find_text(&b, "[data-key-column]", "id").await;
    find(&b, "[data-encoder]").await.click().await.unwrap();
    find_text(&b, "[role=option]", "lampwright-small").await.click().await.unwrap();
    find(&b, "[data-template]").await.send_keys("{note}").await.unwrap();
    find(&b, "[data-begin]").await.click().await.unwrap();
    // Watch and reconcile.
    find(&b, "[data-load][data-state=done]").await;
    let sum = find(&b, "[data-sum]").await.text().await.unwrap();
    assert!(sum.starts_with("300\nread\n=\n300\nnew\n+\n0\nreplaced"), "{sum}");
    find_text(&b, "[data-adds-up]", "The counts add up: notes held 0 records and holds 300").await;
    let about = r.client.collection("notes").await.unwrap();
    assert_eq!((about.n_records, about.columns[0].n_vectors), (300, 300));
    assert_eq!(about.fields["properties"]["year"]["type"], "integer");

    // A bad row stops a load with its place; it is resumed with bad rows set aside.
    b.goto(&format!("{}/c/notes/load", r.url)).await.unwrap();
    let more = file("more.csv", "key,year,note\na,1950,calm\nb,soon,gale\nc,1951,rain\n".into());
    find(&b, "input[data-file=main]").await.send_keys(&more).await.unwrap();
    find_text(&b, "[data-found]", "2 of 3 look like integers; line 3 is \"soon\"").await;
    find(&b, "[data-begin]").await.click().await.unwrap();
    find_text(
        &b,
        "[data-load] [role=alert]",
        "more.csv, line 3: record \"b\": field \"year\" takes an integer",
    )
    .await;
    find(&b, "[data-resume-aside]").await.click().await.unwrap();
    find(&b, "[data-load][data-state=done]").await;
    find_text(&b, "[data-load] a", "rejected rows with their reasons").await;
    assert_eq!(r.client.collection("notes").await.unwrap().n_records, 302);

    // Records in any order.
    find(&b, "[data-nav=records]").await.click().await.unwrap();
    find(&b, "[data-sort]").await.click().await.unwrap();
    find_text(&b, "[role=option]", "year, largest first").await.click().await.unwrap();
    find_text(&b, "[data-records] tr:nth-child(1)", "1959").await;
    assert!(b.current_url().await.unwrap().as_str().contains("sort=-year"));

    // Another model: added and filled, chosen, the old one dropped. And what it all costs.
    find(&b, "[data-nav=collection]").await.click().await.unwrap();
    find_text(&b, "[data-costs]", "total").await;
    find(&b, "[data-add-column]").await.click().await.unwrap();
    find(&b, "[data-column-name]").await.send_keys("large").await.unwrap();
    find(&b, "[data-column-encoder]").await.click().await.unwrap();
    find_text(&b, "[role=option]", "lampwright-large").await.click().await.unwrap();
    find(&b, "[data-column-template]").await.send_keys("{note}" + Key::Enter).await.unwrap();
    find(&b, "[data-choose=large]").await.click().await.unwrap();
    find(&b, "[data-drop-column=meaning]").await.click().await.unwrap();
    find_text(&b, "[role=alertdialog] button", "Really drop it").await.click().await.unwrap();
    // The column was filled while its neighbour went.
    find_text(&b, "main", "lampwright-large").await;
    let fill = r.client.jobs().await.unwrap().into_iter().find(|j| j.kind == "backfill").unwrap();
    assert_eq!(r.client.watch_job(fill.id, |_| ()).await.unwrap().state, "done");
    let dropped = async || r.client.collection("notes").await.unwrap().columns.len() == 1;
    eventually("the other column is dropped", dropped).await;
    let about = r.client.collection("notes").await.unwrap();
    assert_eq!((about.columns[0].name.as_str(), about.columns[0].n_vectors), ("large", 302));
    b.quit().await.unwrap();
}

/// Controls on the page that no name is given to: what a screen reader would call "button" or "edit".
const UNNAMED: &str = r#"
    const named = (e) => e.getAttribute('aria-label') || e.getAttribute('aria-labelledby') || e.labels?.length
        || (/^(BUTTON|A|SUMMARY)$/.test(e.tagName) && e.textContent.trim());
    const controls = 'button, a[href], summary, select, textarea, input:not([type=hidden]), [role=combobox], [role=button]';
    return [...document.querySelectorAll(controls)]
        .filter((e) => !e.closest('[aria-hidden=true]') && !named(e)).map((e) => e.outerHTML.slice(0, 200));
"#;

#[tokio::test(flavor = "multi_thread")]
async fn every_control_has_a_name() {
    let r = with_encoder().await;
    r.logbook(300).await;
    r.build("logbook", "codes", "graph(links=8, build=60) | bits | rescore(f32)").await;
    r.client.save_search("logbook", "near", &json!({"search": {"text": "fog"}})).await.unwrap();
    let (b, _driver) = browser().await;
    b.goto(&r.client.sign_in_link().await.unwrap()).await.unwrap();
    find(&b, "[data-collections]").await;
    // Each page with what it shows only when it is asked to.
    let pages = [
        ("/", "[data-new]"),
        ("/load", "[data-drop]"),
        ("/c/logbook", "[data-add-column]"),
        ("/c/logbook/load", "[data-drop]"),
        ("/c/logbook/records?filter=severity%20%3E%201", "[data-build-filter]"),
        ("/c/logbook/fields", "[data-fields] button"),
        ("/c/logbook/indexes", "[data-stages] input"),
        ("/c/logbook/search", "[data-more]"),
        ("/c/logbook/search?text=fog%20bell", "[data-show-plan]"),
        ("/c/logbook/queries", "[data-make-set]"),
        ("/c/logbook/lens?text=fog", "[data-look]"),
        ("/c/logbook/watch", "[data-set-watch]"),
        ("/c/logbook/tuning", "[data-run-sweep]"),
        ("/c/logbook/saved", "[data-new]"),
        ("/c/logbook/saved/near", "[data-edit]"),
        ("/pulse", "[data-pulse]"),
        ("/keys", "[data-make-key]"),
        ("/reference", "details summary"),
    ];
    for (page, opens) in pages {
        b.goto(&format!("{}{page}", r.url)).await.unwrap();
        let control = find(&b, opens).await;
        if [
            "[data-add-column]",
            "[data-build-filter]",
            "[data-more]",
            "[data-show-plan]",
            "[data-new]",
            "[data-edit]",
        ]
        .contains(&opens)
            && page != "/"
        {
            control.click().await.unwrap();
        }
        let unnamed = b.execute(UNNAMED, vec![]).await.unwrap().json().clone();
        assert_eq!(unnamed, json!([]), "on {page}");
    }
    b.quit().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn an_empty_service_says_what_to_do_next_and_so_does_every_collection() {
    let r = with_encoder().await;
    let (b, _driver) = browser().await;
    b.goto(&r.client.sign_in_link().await.unwrap()).await.unwrap();
    find_text(&b, "[data-first-steps]", "Begin with a file").await;
    find_text(&b, "[data-first-steps]", "lampwright-small").await;

    // The steps of a collection, each as soon as the one before is done.
    let columns = json!([{"name": "meaning", "encoder": "lampwright-small", "template": "{note}"}]);
    let fields =
        json!({"type": "object", "properties": {"note": {"type": "string"}, "kind": {"type": "string"}}});
    r.client
        .create_collection(&json!({"name": "notes", "fields": fields, "columns": columns}))
        .await
        .unwrap();
    let page = format!("{}/c/notes", r.url);
    b.goto(&page).await.unwrap();
    find(&b, "[data-next-step][data-step=Load]").await;
    b.goto(&format!("{page}/search")).await.unwrap();
    find_text(&b, "[data-search-start]", "holds no records").await;
    let note =
        |i: usize| format!("fog over the northern bay on day {i}, and the bell rang until the morning");
    let record = |i: usize| json!({"key": format!("n{i}"), "fields": {"note": note(i), "kind": (["calm", "gale", "fog"][i % 3])}});
    let records: Vec<_> = (0..60).map(record).collect();
    r.client.write("notes", &records).await.unwrap();
    b.goto(&page).await.unwrap();
    find(&b, "[data-next-step][data-step=Index]").await;
    find_text(&b, "[data-next-step]", "zesty index build notes auto").await;
    r.build("notes", "graph-1", "graph(links=8, build=60)").await;
    b.refresh().await.unwrap();
    find(&b, "[data-next-step][data-step=Measure]").await;

    // Three examples of what is there; each finds something, and is listed from then on.
    find(&b, "[data-nav=search]").await.click().await.unwrap();
    find_text(&b, "[data-search-start]", "None yet").await;
    find(&b, "[data-keys]").await;
    for i in 1..=3 {
        b.goto(&format!("{page}/search")).await.unwrap();
        find(&b, &format!("[data-examples] li:nth-child({i}) a")).await.click().await.unwrap();
        find(&b, "[data-hits=approximate] code").await;
        find(&b, "[data-nav=search]").await.click().await.unwrap();
        find(&b, &format!("[data-recent] li:nth-child({i})")).await;
    }
    let examples = find(&b, "[data-examples]").await.text().await.unwrap();
    assert!(examples.contains("Only where kind = ") && examples.contains("Records like n"), "{examples}");
    let recent = find(&b, "[data-recent]").await.text().await.unwrap();
    assert!(recent.contains("like n") && recent.contains("where kind = "), "{recent}");
    b.quit().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_command_is_copied_without_a_secure_context_or_the_page_says_that_it_cannot() {
    let r = plain().await;
    let (b, _driver) = browser().await;
    // A page that came over plain HTTP from another machine has no clipboard; the loopback has one.
    let hide = "Object.defineProperty(window, 'isSecureContext', { value: false }); \
        document.addEventListener('copy', (e) => { window.copied = getSelection().toString() || document.activeElement.value });";
    b.goto(&r.client.sign_in_link().await.unwrap()).await.unwrap();
    find(&b, "[data-first-steps]").await;
    b.execute(hide, vec![]).await.unwrap();
    find(&b, "[data-copy]").await.click().await.unwrap();
    find_text(&b, "[data-copy]", "Copied").await;
    let copied = b.execute("return window.copied", vec![]).await.unwrap().json().clone();
    assert!(copied.as_str().unwrap().starts_with("zesty inspect notes.parquet"), "{copied}");
    // Where the old command is refused too, the page says so.
    b.refresh().await.unwrap();
    find(&b, "[data-first-steps]").await;
    b.execute(hide, vec![]).await.unwrap();
    b.execute("document.execCommand = () => false", vec![]).await.unwrap();
    find(&b, "[data-copy]").await.click().await.unwrap();
    find_text(&b, "[role=status]", "copy it with Ctrl+C").await;
    let selected = b.execute("return getSelection().toString()", vec![]).await.unwrap().json().clone();
    assert!(selected.as_str().unwrap().starts_with("zesty inspect notes.parquet"), "{selected}");
    b.quit().await.unwrap();
}

/// Streams of events that stay silent, until the test breaks them.
const SILENT_STREAMS: &str = "
    window.streams = [];
    window.EventSource = class { constructor() { window.streams.push(this) } addEventListener() {} close() {} };
";
const BREAK_STREAMS: &str = "window.streams.splice(0).forEach((s) => s.onerror())";

#[tokio::test(flavor = "multi_thread")]
async fn what_waits_for_a_job_is_told_when_its_events_end() {
    let r = with_encoder().await;
    r.logbook(300).await;
    r.build("logbook", "graph-1", "graph(links=8, build=60)").await;
    let (b, _driver) = browser().await;
    b.goto(&r.client.sign_in_link().await.unwrap()).await.unwrap();
    find(&b, "[data-collections]").await;
    b.goto(&format!("{}/c/logbook/tuning", r.url)).await.unwrap();
    find(&b, "[data-run-sweep]").await;
    b.execute(SILENT_STREAMS, vec![]).await.unwrap();

    // The stream breaks after the job has ended: the page asks how it ended.
    find(&b, "[data-run-sweep]").await.click().await.unwrap();
    find_text(&b, "[data-jobs]", "1 running").await;
    let ended = async || {
        let jobs = r.client.jobs().await.unwrap();
        jobs[0].kind == "sweep" && jobs[0].state == "done"
    };
    eventually("the sweep ends", ended).await;
    b.execute(BREAK_STREAMS, vec![]).await.unwrap();
    find(&b, "[data-points]").await;
    find_text(&b, "[data-run-sweep]", "Run sweep").await;

    // The stream breaks because the service is gone: nobody can say how the job ended.
    find(&b, "[data-run-sweep]").await.click().await.unwrap();
    find_text(&b, "[data-jobs]", "1 running").await;
    let _folder = r.stop().await;
    b.execute(BREAK_STREAMS, vec![]).await.unwrap();
    find_text(&b, "[role=alert]", "The service does not answer").await;
    find_text(&b, "[data-run-sweep]", "Run sweep").await;
    b.quit().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn recipes_are_advised_sides_judged_and_a_query_found_on_the_map() {
    let r = with_encoder().await;
    r.logbook(2500).await;
    let (b, _driver) = browser().await;
    b.goto(&r.client.sign_in_link().await.unwrap()).await.unwrap();
    find_text(&b, "[data-collections] a", "logbook").await.click().await.unwrap();

    // Recipes are tried; the winner is marked, drawn, and serves.
    find(&b, "[data-nav=advice]").await.click().await.unwrap();
    find(&b, "[data-advise]").await.click().await.unwrap();
    find_text(&b, "[data-candidates] tr.on", "the fastest that reaches the target").await;
    find(&b, "[data-advice] canvas").await;
    let advice = r.client.advice("logbook").await.unwrap().remove(0);
    let winner = advice.result.winner.unwrap();
    find_text(&b, "[data-candidates] tr.on code", &winner).await;
    let index = r.client.indexes("logbook").await.unwrap().remove(0);
    assert!(index.serving && index.recipe == winner);

    // Two sides are compared; verdicts are given by click and by key, kept, and counted.
    find(&b, "[data-nav=compare]").await.click().await.unwrap();
    find(&b, "[data-compare]").await.click().await.unwrap();
    find_text(&b, "[data-comparison]", "the exact scan").await;
    find(&b, "[data-comparison] canvas").await;
    let made = r.client.comparisons("logbook").await.unwrap().remove(0);
    let page = r.client.compared_queries("logbook", made.id, 0, 3).await.unwrap();
    find_text(&b, "[data-both]", page.queries[0].right[9].key.as_ref().unwrap()).await;
    find(&b, "button[data-verdict=right]").await.click().await.unwrap();
    find_text(&b, "[data-judging] h2", "right 1").await;
    // The next one is shown, with the sides hidden; the key of a side means that side wherever it stands.
    find_text(&b, "[data-both]", page.queries[1].right[9].key.as_ref().unwrap()).await;
    find(&b, "#hidden").await.click().await.unwrap();
    find_text(&b, "[data-both] th", "Two").await;
    b.find(By::Css("body")).await.unwrap().send_keys("2").await.unwrap();
    find_text(&b, "[data-judging] h2", "as good 1").await;
    let kept = r.client.compared_queries("logbook", made.id, 0, 2).await.unwrap();
    let verdicts: Vec<_> = kept.queries.iter().map(|q| json!(q.verdict)).collect();
    assert_eq!(verdicts, [json!("right"), json!("same")]);
    find(&b, "[data-nav=compare]").await.click().await.unwrap();
    find_text(&b, "[data-comparisons]", "0 : 1").await;

    // The map is coloured by a field, and its URL restores a query on it.
    find(&b, "[data-nav=map]").await.click().await.unwrap();
    find_text(&b, "[data-map]", "2,500 of 2,500 records").await;
    b.goto(&format!("{}/c/logbook/map?field=kind&text=fog%20bell&index={}", r.url, index.name))
        .await
        .unwrap();
    find_text(&b, "[data-map]", "of the true 10").await;
    find(&b, "[data-map] canvas").await;
    b.goto(&format!("{}/c/logbook/map?field=tags", r.url)).await.unwrap();
    find_text(&b, "[role=alert]", "cannot be coloured by").await;
    b.quit().await.unwrap();
}
