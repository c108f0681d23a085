//! Pages as a browser shows them: no message on its console, no request to anywhere, nothing wider than the window, texts that
//! can be read and selected, links that lead somewhere; in light and in dark. And no secret in any output.
//!
//! Needs Debian's chromium; where it is not there it says so, and with CI=true that is a failure.

#![allow(clippy::disallowed_methods, clippy::disallowed_macros, reason = "tests have files of their own")]

mod common;

use std::fs;
use std::io::{BufRead as _, BufReader, Write as _};
use std::path::Path;
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};

use serde_json::{Value, json};

use common::{SECRET, orchard, uspan};

/// A browser that is spoken to over pipes (Chrome DevTools Protocol).
struct Browser {
    child: Child,
    to: ChildStdin,
    from: BufReader<ChildStdout>,
    next: u64,
    /// What it told unasked.
    events: Vec<Value>,
}

impl Browser {
    /// Starts it.
    fn start(home: &Path) -> Browser {
        // The protocol runs over the file descriptors 3 and 4.
        let script = "exec chromium --headless --no-sandbox --disable-gpu --disable-dev-shm-usage --user-data-dir=\"$0\" \
                      --remote-debugging-pipe about:blank 3<&0 4>&1 </dev/null >/dev/null 2>&1";
        let there = Command::new("chromium").arg("--version").output().is_ok_and(|output| output.status.success());
        assert!(there, "chromium runs here");
        let mut child =
            Command::new("sh").args(["-c", script]).arg(home).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().expect("a shell");
        let (to, from) = (child.stdin.take().expect("piped"), BufReader::new(child.stdout.take().expect("piped")));
        Browser { child, to, from, next: 0, events: Vec::new() }
    }

    fn receive(&mut self) -> Value {
        let mut bytes = Vec::new();
        self.from.read_until(0, &mut bytes).expect("it speaks");
        assert_eq!(bytes.pop(), Some(0), "the browser ended");
        serde_json::from_slice(&bytes).expect("JSON")
    }

    fn ask(&mut self, session: Option<&str>, method: &str, params: &Value) -> Value {
        self.next += 1;
        let mut message = json!({ "id": self.next, "method": method, "params": params });
        if let Some(session) = session {
            message["sessionId"] = session.into();
        }
        self.to.write_all(format!("{message}\0").as_bytes()).expect("it listens");
        loop {
            let mut answer = self.receive();
            if answer["id"] == self.next {
                assert!(answer.get("error").is_none(), "{method}: {answer}");
                return answer["result"].take();
            }
            self.events.push(answer);
        }
    }

    /// Opens a page in a window of this width.
    fn open(&mut self, page: &Path, width: u32, dark: bool) -> String {
        let target = self.ask(None, "Target.createTarget", &json!({ "url": "about:blank" }))["targetId"].clone();
        let session = self.ask(None, "Target.attachToTarget", &json!({ "targetId": target, "flatten": true }))["sessionId"].clone();
        let session = session.as_str().expect("a session").to_owned();
        self.events.clear();
        for domain in ["Page.enable", "Runtime.enable", "Log.enable", "Network.enable"] {
            self.ask(Some(&session), domain, &json!({}));
        }
        let metrics = json!({ "width": width, "height": 800, "deviceScaleFactor": 1, "mobile": false });
        self.ask(Some(&session), "Emulation.setDeviceMetricsOverride", &metrics);
        let scheme = json!({ "features": [{ "name": "prefers-color-scheme", "value": if dark { "dark" } else { "light" } }] });
        self.ask(Some(&session), "Emulation.setEmulatedMedia", &scheme);
        self.ask(Some(&session), "Page.navigate", &json!({ "url": format!("file://{}", page.display()) }));
        while !self.events.iter().any(|event| event["method"] == "Page.loadEventFired") {
            let event = self.receive();
            self.events.push(event);
        }
        session
    }

    fn evaluate(&mut self, session: &str, script: &str) -> Value {
        let params = json!({ "expression": script, "returnByValue": true });
        let mut result = self.ask(Some(session), "Runtime.evaluate", &params);
        assert!(result.get("exceptionDetails").is_none(), "{result}");
        result["result"]["value"].take()
    }

    /// What was told on the console, and what was asked for beside the page itself.
    fn complaints(&self, page: &Path) -> Vec<String> {
        let mut complaints = Vec::new();
        for event in &self.events {
            let params = &event["params"];
            match event["method"].as_str().unwrap_or_default() {
                "Log.entryAdded" => complaints.push(format!("logged: {}", params["entry"]["text"])),
                "Runtime.consoleAPICalled" | "Runtime.exceptionThrown" => complaints.push(format!("console: {params}")),
                "Network.requestWillBeSent" => {
                    let url = params["request"]["url"].as_str().unwrap_or_default();
                    if url != format!("file://{}", page.display()) && !url.starts_with("data:") {
                        complaints.push(format!("asked for {url}"));
                    }
                }
                _ => {}
            }
        }
        complaints
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// What is wrong with the page that is open, each in a line.
const LOOK: &str = r#"(() => {
  const wrong = [];
  const root = document.documentElement;
  if (root.scrollWidth > innerWidth) wrong.push(`the page is ${root.scrollWidth} wide in a window of ${innerWidth}`);
  for (const a of document.querySelectorAll('a[href]')) {
    const to = a.getAttribute('href');
    if (!to.startsWith('#') || !document.getElementById(to.slice(1))) wrong.push(`the link ${to} leads nowhere`);
    if (!a.textContent.trim()) wrong.push(`the link ${to} says nothing`);
  }
  const ids = [...document.querySelectorAll('[id]')].map(e => e.id);
  for (const id of new Set(ids.filter((id, i) => ids.indexOf(id) !== i))) wrong.push(`the id ${id} stands there twice`);
  const parse = c => { const m = c.match(/[\d.]+/g).map(Number); return { rgb: m.slice(0, 3), a: m.length > 3 ? m[3] : 1 }; };
  const light = rgb => { const [r, g, b] = rgb.map(v => { v /= 255; return v <= 0.03928 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4; }); return 0.2126 * r + 0.7152 * g + 0.0722 * b; };
  const contrast = (a, b) => { const [x, y] = [light(a), light(b)].sort((p, q) => q - p); return (x + 0.05) / (y + 0.05); };
  const ground = e => {
    if (e.closest('svg')) {
      const svg = e.closest('svg');
      const fills = [...svg.querySelectorAll('rect')].map(r => parse(getComputedStyle(r).fill)).filter(f => f.a > 0).map(f => f.rgb);
      return fills.length ? fills : [[255, 255, 255]];
    }
    for (let p = e; p; p = p.parentElement) { const c = parse(getComputedStyle(p).backgroundColor); if (c.a > 0) return [c.rgb]; }
    return [[255, 255, 255]];
  };
  const seen = new Set();
  const walker = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
  let texts = 0;
  while (walker.nextNode()) {
    const text = walker.currentNode.textContent.trim(), e = walker.currentNode.parentElement;
    if (!text || ['STYLE', 'TITLE', 'DESC', 'title', 'desc', 'style'].includes(e.tagName)) continue;
    texts++;
    const style = getComputedStyle(e);
    const ink = parse(e.closest('svg') ? style.fill : style.color).rgb;
    for (const behind of ground(e)) {
      const ratio = contrast(ink, behind);
      const key = `${ink}/${behind}`;
      if (ratio < 4.5 && !seen.has(key)) { seen.add(key); wrong.push(`contrast ${ratio.toFixed(2)} of "${text.slice(0, 30)}": ${key}`); }
    }
  }
  if (texts < 50) wrong.push(`only ${texts} texts`);
  if (document.scripts.length) wrong.push('there is a script');
  for (const table of document.querySelectorAll('table')) if (!table.querySelector('th')) wrong.push('a table without heads');
  for (const svg of document.querySelectorAll('svg')) if (!svg.querySelector('title')) wrong.push('a picture without a title');
  const heads = [...document.querySelectorAll('h1,h2,h3')].map(h => Number(h.tagName[1]));
  heads.forEach((h, i) => { if (i && h > heads[i - 1] + 1) wrong.push('a heading skips a level'); });
  getSelection().selectAllChildren(document.body);
  if (!getSelection().toString().includes('packhouse')) wrong.push('text cannot be selected');
  return wrong;
})()"#;

fn looked_at(page: &Path) {
    let home = tempfile::tempdir().expect("a folder");
    let mut browser = Browser::start(home.path());
    let mut wrong = Vec::new();
    for (width, dark) in [(1280, false), (800, false), (1280, true)] {
        let session = browser.open(page, width, dark);
        let found = browser.evaluate(&session, LOOK);
        let found = found.as_array().expect("a list").iter().map(|line| line.as_str().unwrap_or_default().to_owned());
        wrong.extend(found.chain(browser.complaints(page)).map(|line| format!("{width} wide, dark {dark}: {line}")));
    }
    assert!(wrong.is_empty(), "{}:\n{}", page.display(), wrong.join("\n"));
}

#[test]
#[ignore = "needs chromium, which ./test installs"]
fn the_report_is_shown_as_it_should_be() {
    let folder = orchard();
    let run = uspan(folder.path(), &["report", "orchard.span.toml", "-o", "report.html"]);
    assert_eq!(run.code, 0, "{}", run.stderr);
    looked_at(&folder.path().join("report.html"));
}

#[test]
#[ignore = "needs chromium, which ./test installs"]
fn the_sheets_are_shown_as_they_should_be() {
    let folder = orchard();
    for (name, more) in [("sheet.html", &[][..]), ("form.html", &["--partner", "coldstore"][..])] {
        let args = ["sheet", "orchard.span.toml", "--format", "html", "-o", name].into_iter().chain(more.iter().copied());
        let run = uspan(folder.path(), &args.collect::<Vec<_>>());
        assert_eq!(run.code, 0, "{}", run.stderr);
        looked_at(&folder.path().join(name));
    }
}

/// Exemption rules too: a remark of another kind stands between them and the one that names their keys.
#[test]
fn lines_lead_back_to_the_description_from_wherever_it_is_called() {
    let folder = orchard();
    let path = folder.path().join("orchard.span.toml");
    let text = fs::read_to_string(&path).expect("the demo").replace("[tunnel.harvest]", "[tunnel.harvest]\nliveness = \"off\"");
    fs::write(&path, text).expect("written");
    let run = uspan(folder.path(), &["report", path.to_str().expect("a plain path"), "-o", "report.html"]);
    assert_eq!(run.code, 0, "{}", run.stderr);
    let page = fs::read_to_string(folder.path().join("report.html")).expect("a page");
    let finding = page.split("warning US315").nth(1).expect("it is told that nobody watches the peer");
    assert!(finding.split("</li>").next().is_some_and(|item| item.contains("href=\"#d--")), "it leads to its line");
    let rule = page.lines().find(|line| line.contains("counter snat ip prefix to")).expect("an exemption rule");
    assert!(rule.contains("of the description"), "{rule}");
}

/// The bytes of the secret, in each spelling that anything here has, stand in no output that is made to be looked at.
#[test]
fn no_output_shows_a_secret() {
    let folder = orchard();
    let hex: String = SECRET.bytes().map(|byte| format!("{byte:02x}")).collect();
    let commands: &[&[&str]] = &[
        &["build", "orchard.span.toml", "-o", "out"],
        &["check", "orchard.span.toml", "--reasons"],
        &["check", "orchard.span.toml", "--format", "json"],
        &["compare", "out/packhouse", "out/coldstore", "--all"],
        &["compare", "out/packhouse", "out/coldstore", "--format", "json"],
        &["rehearse", "orchard.span.toml", "--svg", "ladder.svg"],
        &["rehearse", "orchard.span.toml", "--format", "json"],
        &["walk", "orchard.span.toml", "--from", "10.41.0.10", "--to", "10.73.16.10"],
        &["sheet", "orchard.span.toml"],
        &["sheet", "orchard.span.toml", "--format", "markdown"],
        &["sheet", "orchard.span.toml", "--format", "html"],
        &["sheet", "orchard.span.toml", "--format", "json"],
        &["sheet", "orchard.span.toml", "--partner", "coldstore", "--format", "markdown"],
        &["draw", "orchard.span.toml", "-o", "picture.svg"],
        &["report", "orchard.span.toml", "-o", "report.html"],
        &["verify-steps", "orchard.span.toml"],
        &["verify-steps", "orchard.span.toml", "--format", "json"],
    ];
    for args in commands {
        let run = uspan(folder.path(), args);
        assert_eq!(run.code, 0, "{args:?}: {}", run.all());
        assert!(!run.all().contains(SECRET) && !run.all().contains(&hex), "{args:?} shows the secret");
    }
    for name in ["ladder.svg", "picture.svg", "report.html"] {
        let text = fs::read_to_string(folder.path().join(name)).expect("written");
        assert!(!text.contains(SECRET) && !text.contains(&hex), "{name} shows the secret");
    }
}
