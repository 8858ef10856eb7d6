//! A browser without a window, driven by the open WebDriver protocol.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use serde_json::{Value, json};

use crate::client::answered;

/// The key under which the protocol names an element.
const ELEMENT: &str = "element-6066-11e4-a52e-4f735466cecf";

/// A browser, and the program that drives it. Dropping it ends both.
pub struct Browser {
    driver: Child,
    port: u16,
    session: String,
}

impl Browser {
    /// Starts a browser; `None` means that there is none here. Where `NEEDS_BROWSER` is set, that is a failure.
    pub fn start(width: u32, height: u32) -> Option<Self> {
        let driver = Command::new("chromedriver").arg("--port=0").stdout(Stdio::piped()).stderr(Stdio::null()).spawn();
        let Ok(mut driver) = driver else {
            assert!(std::env::var_os("NEEDS_BROWSER").is_none(), "chromedriver is not installed");
            println!("skipped: chromedriver is not installed");
            return None;
        };
        let said = BufReader::new(driver.stdout.take().expect("its output"));
        let port = said.lines().map_while(Result::ok).find_map(|line| {
            let (_, port) = line.split_once("started successfully on port ")?;
            port.trim_end_matches('.').parse().ok()
        });
        let mut browser = Self { driver, port: port.expect("a port"), session: String::new() };
        let size = format!("--window-size={width},{height}");
        let arguments = ["--headless=new", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage", &size];
        let options = json!({
            "args": arguments,
            "mobileEmulation": { "deviceMetrics": { "width": width, "height": height, "pixelRatio": 1, "touch": false, "mobile": false } },
        });
        let wanted = json!({ "capabilities": { "alwaysMatch": {
            "browserName": "chrome", "goog:chromeOptions": options, "goog:loggingPrefs": { "browser": "ALL" },
        } } });
        let begun = browser.send("POST", "/session", &wanted);
        begun["sessionId"].as_str().expect("a session").clone_into(&mut browser.session);
        Some(browser)
    }

    fn send(&self, method: &str, path: &str, body: &Value) -> Value {
        let mut stream = TcpStream::connect(("127.0.0.1", self.port)).expect("the driver");
        stream.set_read_timeout(Some(Duration::from_secs(60))).expect("a time-out");
        let body = if method == "POST" { body.to_string() } else { String::new() };
        let head = format!(
            "{method} {path} HTTP/1.1\r\nHost: 127.0.0.1:{}\r\nConnection: close\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\r\n",
            self.port,
            body.len()
        );
        stream.write_all((head + &body).as_bytes()).expect("a request");
        // The driver keeps the connection open, so the length of the response counts.
        let (mut all, mut part) = (Vec::new(), [0; 4_096]);
        let said = loop {
            let count = stream.read(&mut part).expect("a response");
            all.extend_from_slice(&part[..count]);
            if !all.windows(4).any(|four| four == b"\r\n\r\n") {
                continue;
            }
            let said = answered(&all);
            let length = said.header("content-length").and_then(|length| length.parse().ok()).unwrap_or(0);
            if count == 0 || said.body.len() >= length {
                break said;
            }
        };
        assert_eq!(said.status, 200, "{method} {path}: {}", said.text());
        said.json()["value"].clone()
    }

    fn session(&self, method: &str, path: &str, body: &Value) -> Value {
        self.send(method, &format!("/session/{}{path}", self.session), body)
    }

    pub fn open(&self, url: &str) {
        self.session("POST", "/url", &json!({ "url": url }));
    }

    /// Runs a script of the test, and returns what it returns.
    pub fn run(&self, script: &str) -> Value {
        self.session("POST", "/execute/sync", &json!({ "script": script, "args": [] }))
    }

    /// Returns the text of what a selector finds first; empty if nothing is there.
    pub fn text(&self, selector: &str) -> String {
        let script = format!("const found = document.querySelector({selector:?}); return found ? found.innerText : ''");
        self.run(&script).as_str().unwrap_or_default().to_owned()
    }

    fn element(&self, selector: &str) -> String {
        let found = self.session("POST", "/element", &json!({ "using": "css selector", "value": selector }));
        found[ELEMENT].as_str().expect("an element").to_owned()
    }

    /// Clicks with the mouse.
    pub fn click(&self, selector: &str) {
        let element = self.element(selector);
        self.session("POST", &format!("/element/{element}/click"), &json!({}));
    }

    /// Types into a field, or names files for one that takes files.
    pub fn write(&self, selector: &str, text: &str) {
        let element = self.element(selector);
        self.session("POST", &format!("/element/{element}/value"), &json!({ "text": text }));
    }

    /// Presses keys, wherever the focus is.
    pub fn press(&self, keys: &[char]) {
        let actions: Vec<Value> = keys
            .iter()
            .flat_map(|key| [json!({ "type": "keyDown", "value": key }), json!({ "type": "keyUp", "value": key })])
            .collect();
        self.session("POST", "/actions", &json!({ "actions": [{ "type": "key", "id": "keys", "actions": actions }] }));
    }

    pub fn accept(&self) {
        self.session("POST", "/alert/accept", &json!({}));
    }

    /// Waits until a script returns true.
    pub fn wait_for(&self, script: &str) {
        for _ in 0..800 {
            if self.run(script) == Value::Bool(true) {
                return;
            }
            std::thread::sleep(Duration::from_millis(50));
        }
        panic!("it takes too long: {script}\n{}\n{:?}", self.text("body"), self.complaints());
    }

    /// Returns what the browser complained of since it was last asked.
    pub fn complaints(&self) -> Vec<String> {
        let log = self.session("POST", "/se/log", &json!({ "type": "browser" }));
        log.as_array().into_iter().flatten().filter_map(|line| line["message"].as_str().map(str::to_owned)).collect()
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        if !self.session.is_empty() && !std::thread::panicking() {
            self.session("DELETE", "", &Value::Null);
        }
        let _ = self.driver.kill();
        let _ = self.driver.wait();
    }
}
