//! Chromium without a monitor, told what to do by its own protocol over a socket.

use std::net::TcpStream;
use std::process::{Child, Command, Stdio};

use serde_json::{Value, json};
use tempfile::TempDir;
use tungstenite::{Message, WebSocket};

use crate::wait_for;

/// A browser with one page; it is closed when this is dropped.
pub struct Browser {
    child: Child,
    socket: WebSocket<TcpStream>,
    session: String,
    last: u64,
    /// What the page complained of: errors of scripts, and what its content policy has refused.
    pub complaints: Vec<String>,
    _folder: TempDir,
}

impl Browser {
    /// Starts it with an empty page.
    pub fn start() -> Browser {
        let folder = tempfile::Builder::new().prefix("browser").tempdir().expect("a temporary folder");
        let mut command = Command::new("chromium");
        command.args(["--headless", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage"]);
        command.args(["--no-first-run", "--disable-background-networking", "--disable-component-update"]);
        command.args(["--disable-sync", "--remote-debugging-port=0"]);
        command.arg(format!("--user-data-dir={}", folder.path().display()));
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        let child = command.spawn().expect("chromium is installed");
        let port = folder.path().join("DevToolsActivePort");
        let mut lines = Vec::new();
        wait_for("the browser", || {
            let text = std::fs::read_to_string(&port).unwrap_or_default();
            lines = text.lines().map(str::to_owned).collect();
            lines.len() == 2
        });
        let address = format!("127.0.0.1:{}", lines[0]);
        let stream = TcpStream::connect(&address).expect("it listens");
        let (socket, _) =
            tungstenite::client(format!("ws://{address}{}", lines[1]), stream).expect("it speaks");
        let (session, complaints) = (String::new(), Vec::new());
        let mut browser = Browser { child, socket, session, last: 0, complaints, _folder: folder };
        let target = browser.command("Target.createTarget", json!({"url": "about:blank"}));
        let attach = json!({"targetId": target["targetId"], "flatten": true});
        let attached = browser.command("Target.attachToTarget", attach);
        attached["sessionId"].as_str().expect("a session").clone_into(&mut browser.session);
        for domain in ["Page.enable", "Runtime.enable", "Log.enable"] {
            browser.command(domain, json!({}));
        }
        browser
    }

    /// The size of the page, in pixels.
    pub fn size(&mut self, width: u32, height: u32) {
        let size = json!({"width": width, "height": height, "deviceScaleFactor": 1, "mobile": width < 600});
        self.command("Emulation.setDeviceMetricsOverride", size);
    }

    /// Whether it is dark about the reader, and what the page is shown on: `screen` or `print`.
    pub fn surroundings(&mut self, dark: bool, medium: &str) {
        let scheme = if dark { "dark" } else { "light" };
        let features = json!([{"name": "prefers-color-scheme", "value": scheme}]);
        self.command("Emulation.setEmulatedMedia", json!({"media": medium, "features": features}));
    }

    /// Goes to an address, and waits until it is there.
    #[track_caller]
    pub fn go(&mut self, address: &str) {
        let went = self.command("Page.navigate", json!({"url": address}));
        assert_eq!(went.get("errorText"), None, "{address}");
        self.waits(&format!("location.href === '{address}' && document.readyState === 'complete'"));
    }

    /// Waits until something is so.
    #[track_caller]
    pub fn waits(&mut self, script: &str) {
        wait_for(script, || self.value(script) == true);
    }

    /// What a script comes to.
    #[track_caller]
    pub fn value(&mut self, script: &str) -> Value {
        let asked = json!({"expression": script, "returnByValue": true, "awaitPromise": true});
        let mut answer = self.command("Runtime.evaluate", asked);
        assert_eq!(answer.get("exceptionDetails"), None, "{script}");
        answer["result"]["value"].take()
    }

    /// Presses a key by its name: `Tab`, `Enter`.
    pub fn press(&mut self, key: &str) {
        let (code, text) = if key == "Enter" { (13, "\r") } else { (9, "") };
        for kind in ["keyDown", "keyUp"] {
            let mut event = json!({"type": kind, "key": key, "code": key, "windowsVirtualKeyCode": code});
            if kind == "keyDown" && !text.is_empty() {
                event["text"] = text.into();
            }
            self.command("Input.dispatchKeyEvent", event);
        }
    }

    fn command(&mut self, method: &str, parameters: Value) -> Value {
        self.last += 1;
        let mut message = json!({"id": self.last, "method": method, "params": parameters});
        if !self.session.is_empty() {
            message["sessionId"] = self.session.as_str().into();
        }
        self.socket.send(Message::text(message.to_string())).expect("it takes");
        loop {
            let message = self.socket.read().expect("an answer");
            let Ok(text) = message.to_text() else { continue };
            let Ok(mut answer) = serde_json::from_str::<Value>(text) else { continue };
            if answer["id"] == self.last {
                assert_eq!(answer.get("error"), None, "{method}");
                return answer["result"].take();
            }
            let what = match answer["method"].as_str() {
                Some("Runtime.exceptionThrown") => answer["params"]["exceptionDetails"].take(),
                Some("Log.entryAdded") => answer["params"]["entry"].take(),
                _ => continue,
            };
            self.complaints.push(what.to_string());
        }
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
