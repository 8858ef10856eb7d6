//! The page in a real browser.

use logothete::config::Config;
use logothete::eval::{compare, read_questions};
use logothete::{BuildRequest, Hashing, MemorySource, Pipeline, StopToken};
use logothete_report::{Evaluation, evaluation_page, tree_drawing, tree_page};
use serde_json::json;

use crate::browser::Browser;
use crate::client::{Running, TOKEN, demo};

const ENTER: char = '\u{E007}';
const TAB: char = '\u{E004}';

fn url(service: &Running) -> String {
    format!("http://{}/", service.address)
}

/// Opens the page, and waits until it has loaded what it shows.
fn opened(browser: &Browser, service: &Running) {
    browser.open(&url(service));
    browser.wait_for("return document.getElementById('about').textContent !== ''");
    browser.run("document.getElementById('shelf').open = true");
}

fn ask(browser: &Browser, question: &str) {
    let before = browser.run("return document.querySelectorAll('#log > li').length").as_u64().unwrap_or_default();
    browser.write("#question", question);
    browser.press(&[ENTER]);
    browser.wait_for(&format!(
        "return document.querySelectorAll('#log > li').length === {} && document.querySelector('#log > li:first-child .tale') !== null",
        before + 1
    ));
}

#[test]
fn a_visitor_uploads_asks_follows_a_marker_asks_on_looks_behind_it_and_deletes() {
    let Some(browser) = Browser::start(1280, 800) else { return };
    let service = Running::start(|_| {});
    opened(&browser, &service);
    assert!(browser.text("#documents").contains("Bells"), "{}", browser.text("#documents"));

    let files = tempfile::tempdir().expect("a folder");
    let register = files.path().join("cranes.md");
    std::fs::write(&register, "# Cranes\n\nCrane 4 lifts forty tonnes. It was painted in May.\n").expect("a file");
    let both =
        format!("{}\n{}", demo().join("byelaws.pdf").canonicalize().expect("the demo").display(), register.display());
    browser.write("#files", &both);
    browser.wait_for("return document.getElementById('status').textContent === 'Everything is read and can be asked.'");
    let shelf = browser.text("#documents");
    assert!(shelf.contains("Harbour Byelaws 2024") && shelf.contains("✓ byelaws.pdf · 11 pages"), "{shelf}");
    assert!(shelf.contains("Cranes") && shelf.contains("Remove"), "{shelf}");

    ask(&browser, "Which vessel shall not enter the North Channel within ninety minutes of low water?");
    let answer = browser.text("#log > li:first-child");
    assert!(answer.contains("5.4 metres") && answer.contains("● supported"), "{answer}");
    browser.click("#log > li:first-child .marker");
    browser.wait_for("const picture = document.querySelector('#sheet img'); return picture !== null && picture.complete && picture.naturalWidth > 0");
    let sheet = browser.text("#sheet");
    assert!(sheet.contains("Harbour Byelaws 2024") && sheet.contains("page 2"), "{sheet}");
    match Pipeline::default().draws() {
        true => assert_eq!(browser.run("return document.querySelector('#sheet img').naturalWidth > 900"), true),
        false => {
            let marked = "const picture = await fetch(document.querySelector('#sheet img').src); return (await picture.text()).includes('class=\"cited\"')";
            browser.wait_for(marked);
        }
    }

    ask(&browser, "How many tonnes does Crane 4 lift?");
    browser.click("#log > li:first-child .marker");
    browser.wait_for("return document.querySelector('#sheet mark') !== null");
    assert_eq!(browser.text("#sheet mark"), "Crane 4 lifts forty tonnes.");
    ask(&browser, "And when was it painted?");
    let answer = browser.text("#log > li:first-child");
    assert!(answer.contains("Searched for: When was it painted?") && answer.contains("Crane 4"), "{answer}");

    browser.click("#log > li:first-child .tale summary");
    browser.wait_for("return document.querySelector('.tale iframe') !== null");
    let trace = "const page = await fetch(document.querySelector('.tale iframe').src, {headers: {Accept: 'text/html'}}); return (await page.text()).includes('painted')";
    browser.wait_for(trace);

    browser.click("#documents button[aria-label='Remove cranes.md']");
    browser.accept();
    browser.wait_for("return document.getElementById('status').textContent === 'cranes.md is removed.'");
    browser.wait_for("return !document.getElementById('documents').innerText.includes('Cranes')");
    browser.click("#tear");
    browser.accept();
    browser.wait_for("return document.querySelectorAll('#log > li').length === 0");
    assert_eq!(browser.complaints(), Vec::<String>::new());
}

/// Whatever documents hold, it is shown as text.
#[test]
fn hostile_documents_run_nothing() {
    let Some(browser) = Browser::start(1280, 800) else { return };
    const MARKUP: &str = "<img src=x onerror=\"window.taken=1\"><script>window.taken=1</script>";
    let name = "\"><script>window.taken=1</script>.md".replace('/', "");
    let text = format!(
        "# {MARKUP}\n\n## <iframe src=javascript:parent.taken=1>\n\nThe fog signal {MARKUP} is sounded every minute.\n\n```\n</script><script>window.taken=1</script> fog code\n```\n"
    );
    let html = "<title>&lt;/title&gt;&lt;script&gt;window.taken=1&lt;/script&gt;</title><p>The lock &lt;svg onload=window.taken=1&gt; is shut at night.</p>";
    let source = MemorySource::new("strangers").with(name, text).with("page.html", html);
    let service = Running::with(
        &Config::default(),
        |_| {},
        None,
        |corpus| async move {
            corpus.build(BuildRequest::default().source(source)).await.expect("a build");
            corpus
        },
    );
    opened(&browser, &service);
    for question in ["How often is the fog signal sounded?", "When is the lock shut?"] {
        ask(&browser, question);
        browser.click("#log > li:first-child .marker");
        browser.wait_for("return document.querySelector('#sheet mark') !== null");
        browser.click("#log > li:first-child .tale summary");
        browser.wait_for("return document.querySelector('#log > li:first-child iframe') !== null");
    }
    assert!(browser.text("#sheet").contains("<svg onload"), "it is shown as it stands");
    assert!(browser.text("#documents").contains("<script>"), "{}", browser.text("#documents"));
    let traces = browser.run("return [...document.querySelectorAll('iframe')].map((frame) => frame.src)");
    for trace in traces.as_array().into_iter().flatten().filter_map(|one| one.as_str()) {
        browser.open(trace);
        assert!(browser.text("body").contains("Sources") || !browser.text("body").is_empty());
        assert_eq!(browser.run("return window.taken === undefined && document.scripts.length === 0"), true);
    }
    opened(&browser, &service);
    assert_eq!(browser.run("return window.taken === undefined"), true);
    assert_eq!(browser.complaints(), Vec::<String>::new());
}

/// The page of an evaluation is a file, with whatever the documents and the questions hold.
#[tokio::test]
async fn a_report_about_hostile_documents_runs_nothing() {
    let Some(browser) = Browser::start(1280, 800) else { return };
    const MARKUP: &str = "</pre></title><script>window.taken=1</script><img src=x onerror=window.taken=1>";
    let text = format!("# {MARKUP}\n\nThe fog signal {MARKUP} is sounded every minute.\n");
    let source = MemorySource::new(MARKUP)
        .with("second.md", format!("{text}\nThe lock is shut at night {MARKUP}.\n"))
        .with(format!("{MARKUP}.md").replace('/', ""), text);
    let pipeline = Pipeline::default().with_encoder(Hashing::new(128).expect("settings"));
    let corpus = pipeline.in_memory().await.expect("a corpus");
    corpus.build(BuildRequest::default().source(source)).await.expect("a build");
    let question = json!({
        "id": MARKUP, "question": format!("How often is the fog signal sounded {MARKUP}?"), "kind": MARKUP,
        "relevant": [{ "document": MARKUP, "section": MARKUP }], "expected": MARKUP,
    });
    let questions = read_questions(&question.to_string()).expect("a question");
    let first = corpus.evaluate(MARKUP, questions.clone()).await.expect("a run");
    let others = [corpus.evaluate("another \"><script>window.taken=1</script>", questions).await.expect("a run")];
    let comparisons = compare(&first, &others);
    let page = evaluation_page(&[Evaluation { first: &first, others: &others, comparisons: &comparisons }]);
    corpus.grow_tree(true, &StopToken::default()).await.expect("a tree");
    let tree = corpus.tree().await.expect("a look").expect("a tree");
    assert_eq!(tree.levels.len(), 1, "the notices are summed up");
    let folder = tempfile::tempdir().expect("a folder");
    let harmless =
        "return window.taken === undefined && document.scripts.length === 0 && document.querySelector('img') === null";
    for (name, page) in [("report.html", page), ("tree.html", tree_page(&tree)), ("tree.svg", tree_drawing(&tree))] {
        let file = folder.path().join(name);
        std::fs::write(&file, page).expect("a file");
        browser.open(&format!("file://{}", file.display()));
        assert_eq!(browser.run(harmless), true, "{name}");
        if name != "tree.svg" {
            browser.run("document.querySelectorAll('details').forEach((one) => { one.open = true; })");
            let shown = browser.text("body");
            assert!(shown.contains("<img src=x onerror=window.taken=1>"), "{name}: {shown}");
        }
    }
    assert_eq!(browser.complaints(), Vec::<String>::new());
}

#[test]
fn a_token_is_asked_for_and_is_not_kept_by_the_page() {
    let Some(browser) = Browser::start(1280, 800) else { return };
    let service = Running::guarded();
    browser.open(&url(&service));
    browser.wait_for("return document.getElementById('gate').open");
    browser.write("#token", "guessed");
    browser.press(&[ENTER]);
    browser.wait_for("return document.getElementById('gate-error').textContent !== ''");
    browser.run("document.getElementById('token').value = ''");
    browser.write("#token", TOKEN);
    browser.press(&[ENTER]);
    browser.wait_for("return document.getElementById('about').textContent !== ''");
    browser.click("#shelf summary");
    assert!(browser.text("#documents").contains("Bells"));
    let kept = browser.run("return document.cookie + Object.keys(localStorage) + Object.keys(sessionStorage) + document.getElementById('token').value");
    assert_eq!(kept, "");
}

/// All that a mouse does a keyboard does, and nothing is wider than the window.
#[test]
fn the_page_is_used_by_keyboard_and_on_a_narrow_window() {
    let Some(browser) = Browser::start(375, 740) else { return };
    let service = Running::start(|_| {});
    opened(&browser, &service);
    let fits = "return document.documentElement.scrollWidth <= window.innerWidth";
    assert_eq!(browser.run(fits), true);
    browser.press(&[TAB]);
    assert_eq!(browser.run("return document.activeElement.className"), "skip");
    browser.press(&[ENTER, TAB]);
    for key in "When is the sea lock shut?".chars() {
        browser.press(&[key]);
    }
    assert_eq!(browser.run("return document.activeElement.id"), "question");
    browser.press(&[ENTER]);
    browser.wait_for("return document.querySelector('#log .tale') !== null");
    let reached = (0..30).any(|_| {
        browser.press(&[TAB]);
        browser.run("return document.activeElement.className") == "marker"
    });
    assert!(reached, "a marker is reached by the tabulator");
    browser.press(&[ENTER]);
    browser.wait_for("return document.activeElement.id === 'source' && document.querySelector('#sheet mark') !== null");
    assert_eq!(browser.run(fits), true);
    let unnamed = "return [...document.querySelectorAll('button, input, textarea, select, iframe, img')].filter((one) => \
        !(one.innerText || one.getAttribute('aria-label') || one.alt || one.title || (one.labels && one.labels.length))).map((one) => one.outerHTML)";
    assert_eq!(browser.run(unnamed), serde_json::json!([]), "everything has a name");
    assert_eq!(browser.complaints(), Vec::<String>::new());
}
