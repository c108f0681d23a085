//! Payloads into every field of a description and every cell of an inventory. What is accepted builds the same statements, files,
//! elements and commands as a harmless text in the same place, and no word of it is run.
//!
//! `USPAN_ATTACKS=1` takes all payloads into all fields (some minutes); without it a part that differs from run to run of the tests
//! only with the payloads' list.

use std::cell::Cell;
use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use std::process::Command;

use html5ever::tendril::StrTendril;
use html5ever::tokenizer::{BufferQueue, TagKind, Token, TokenSink, TokenSinkResult, Tokenizer};

use crate::common::{files, uspan, write};
use crate::texts::{BENIGN, bases, filled, harmless, payloads};

struct Case<'a> {
    base: &'a str,
    text: &'a str,
    field: &'a str,
    value: &'a str,
}

fn lay_out(folder: &Path, case: &Case<'_>) {
    let text = filled(case.text, |field| if field == case.field { case.value } else { harmless(field) });
    write(&folder.join("d.span.toml"), text, 0o644);
    let cell = |field: &str, harmless: &str| match case.field.strip_prefix("cell:") {
        Some(named) if named == field => format!("\"{}\"", case.value.replace('"', "\"\"")),
        _ => harmless.to_owned(),
    };
    let row = [
        cell("name", "north"),
        cell("address", "203.0.113.1"),
        cell("outside", "eth0"),
        "eth1".to_owned(),
        "10.1.0.0/16".to_owned(),
        "strongswan".to_owned(),
        cell("note", BENIGN),
    ];
    let csv = format!("name,gateway.address,gateway.outside,gateway.inside,networks.lan,platform,note\n{}\n", row.join(","));
    write(&folder.join("sites.csv"), csv, 0o644);
    let file = if case.field == "file" { case.value } else { "k.key" };
    // Where such a file can be, it is there.
    if !file.contains(['\0', '/']) && !file.is_empty() && file.len() < 200 && file != "." && file != ".." {
        write(&folder.join(file), "Kq8vT2mXr0ZpL4nWc7YbD1sHfJ6gUeA9tRoEiNvB3xM\n", 0o600);
    }
}

/// What was built, in numbers that no text of the user's may change.
#[derive(Debug, PartialEq, Eq)]
struct Shape {
    /// Lines that are no remarks, by file, as readers see them that take a line in pieces.
    lines: BTreeMap<String, usize>,
    /// Elements of the pages and of the picture.
    html: usize,
    sheet: usize,
    svg: usize,
    markdown: usize,
    commands: usize,
}

fn statements(text: &str, piece: usize) -> usize {
    let pieces = text
        .split('\n')
        .flat_map(|line| line.as_bytes().chunks(piece).map(|piece| String::from_utf8_lossy(piece).trim().to_owned()).collect::<Vec<_>>());
    pieces.filter(|line| !line.is_empty() && !line.starts_with(['#', '!'])).count()
}

#[derive(Default)]
struct Tags(Cell<usize>);

impl TokenSink for Tags {
    type Handle = ();

    fn process_token(&self, token: Token, _line: u64) -> TokenSinkResult<()> {
        if let Token::TagToken(tag) = token
            && tag.kind == TagKind::StartTag
            // What a longer text is broken into.
            && !["text", "tspan", "span", "br", "line", "rect", "path"].contains(&&*tag.name)
        {
            self.0.set(self.0.get() + 1 + tag.attrs.len());
        }
        TokenSinkResult::Continue
    }
}

fn elements(page: &str) -> usize {
    let input = BufferQueue::default();
    input.push_back(StrTendril::from_slice(page));
    let tokenizer = Tokenizer::new(Tags::default(), html5ever::tokenizer::TokenizerOpts::default());
    let _ = tokenizer.feed(&input);
    tokenizer.end();
    tokenizer.sink.0.get()
}

/// Builds and shows; nothing where the description is refused.
fn shape(folder: &Path, tunnel: &str) -> Option<Shape> {
    let built = uspan(folder, &["build", "d.span.toml", "-o", "out", "--replace"]);
    assert!((0..=1).contains(&built.code), "{}", built.all());
    if built.code == 1 {
        return None;
    }
    let mut lines = BTreeMap::new();
    for file in files(&folder.join("out")) {
        let name = file.strip_prefix(folder).expect("below").display().to_string();
        let text = fs::read_to_string(&file).expect("text");
        let piece = match () {
            () if name.contains("iptables") => 10_239,
            () if name.contains("frr") => 4095,
            () if name.ends_with(".secrets") => 2047,
            () => usize::MAX,
        };
        if !name.ends_with("manifest.json") {
            let odd = text.chars().find(|c| uspan_core::misleads(*c) && *c != '\n' && *c != '\t');
            assert_eq!(odd, None, "{name}");
            lines.insert(name, statements(&text, piece));
        }
    }
    let run = |args: &[&str]| {
        let run = uspan(folder, args);
        assert_eq!(run.code, 0, "{args:?}: {}", run.all());
        run
    };
    run(&["report", "d.span.toml", "-o", "r.html", "--replace"]);
    run(&["sheet", "d.span.toml", "--format", "html", "-o", "s.html", "--replace"]);
    run(&["sheet", "d.span.toml", "--format", "markdown", "-o", "s.md", "--replace"]);
    run(&["draw", "d.span.toml", "-o", "d.svg", "--replace"]);
    run(&["retire", "d.span.toml", "--tunnel", tunnel, "-o", "gone", "--replace"]);
    let steps = run(&["verify-steps", "d.span.toml", "--format", "json"]).json();
    let read = |name: &str| fs::read_to_string(folder.join(name)).expect("read");
    let svg = read("d.svg");
    let picture = roxmltree::Document::parse(&svg).unwrap_or_else(|error| panic!("{error}"));
    let mut commands = 0;
    let mut visit = vec![&steps];
    while let Some(value) = visit.pop() {
        match value {
            serde_json::Value::Object(map) => {
                commands += map.get("command").and_then(serde_json::Value::as_str).map_or(0, |command| {
                    let parsed = Command::new("sh").args(["-n", "-c", command]).status().expect("a shell");
                    assert!(parsed.success(), "{command}");
                    1
                });
                visit.extend(map.values());
            }
            serde_json::Value::Array(list) => visit.extend(list),
            _ => {}
        }
    }
    for script in files(&folder.join("gone")).iter().filter(|file| file.extension().is_some_and(|end| end == "sh")) {
        assert!(Command::new("sh").arg("-n").arg(script).status().expect("a shell").success(), "{}", script.display());
        let text = fs::read_to_string(script).expect("read");
        commands += text.lines().filter(|line| !line.is_empty() && !line.starts_with('#')).count();
    }
    Some(Shape {
        lines,
        html: elements(&read("r.html")),
        sheet: elements(&read("s.html")),
        svg: picture.descendants().filter(roxmltree::Node::is_element).count(),
        markdown: read("s.md").lines().filter(|line| line.starts_with('|')).map(|line| line.replace("\\|", "").matches('|').count()).sum(),
        commands,
    })
}

/// Lines of pages that a long text is broken into, or a picture that grows with it, are no statements.
fn alike(one: &Shape, other: &Shape, field: &str) -> bool {
    // In the pages each line of a file is an element; remarks are broken into lines.
    let pages = field.contains("note") || field.contains("reason") || one.html == other.html;
    one.lines == other.lines && one.commands == other.commands && one.sheet == other.sheet && one.markdown == other.markdown && pages
}

#[test]
fn no_payload_in_any_field_becomes_a_statement_an_element_or_a_command() {
    let all = std::env::var_os("USPAN_ATTACKS").is_some();
    let (mut tried, mut accepted, mut wrong) = (0, 0, Vec::new());
    for (base, text, fields) in bases() {
        let tunnel = if base == "group" { "all--north--press" } else { "harvest" };
        let plain = tempfile::tempdir().expect("a folder");
        lay_out(plain.path(), &Case { base, text: &text, field: "", value: "" });
        let tunnel = tunnel_name(plain.path()).unwrap_or_else(|| tunnel.to_owned());
        let benign = shape(plain.path(), &tunnel)
            .unwrap_or_else(|| panic!("{base} builds: {}", uspan(plain.path(), &["check", "d.span.toml"]).all()));
        // A gateway that is found by its name has a page of its own shape.
        let by_name = fields.iter().find(|field| field.contains("address")).and_then(|field| {
            let folder = tempfile::tempdir().expect("a folder");
            lay_out(folder.path(), &Case { base, text: &text, field, value: "gw.example.net" });
            shape(folder.path(), &tunnel)
        });
        for (f, field) in fields.iter().enumerate() {
            for (p, value) in payloads().iter().enumerate() {
                if !all && (p * 7 + f * 3) % 16 != 0 {
                    continue;
                }
                let folder = tempfile::tempdir().expect("a folder");
                let case = Case { base, text: &text, field, value };
                lay_out(folder.path(), &case);
                tried += 1;
                let came = shape(folder.path(), &tunnel_name(folder.path()).unwrap_or_else(|| tunnel.clone()));
                if folder.path().join("PWNED").exists() {
                    wrong.push(format!("{base} {field} {value:?}: it was run"));
                }
                let Some(came) = came else { continue };
                accepted += 1;
                // A name of a site is in names of files, and is a plain word or refused.
                let named = matches!(*field, "cell:name");
                let benign = by_name.as_ref().filter(|_| field.contains("address")).unwrap_or(&benign);
                if !named && !alike(&came, benign, field) {
                    wrong.push(format!("{} {field} {:?}: {came:?}\n  against {benign:?}", case.base, shortened(value)));
                }
            }
        }
    }
    eprintln!("{tried} payloads into fields, {accepted} accepted");
    assert!(accepted > 10, "{accepted} of {tried} were accepted");
    assert!(wrong.is_empty(), "{} of {tried}:\n{}", wrong.len(), wrong.join("\n"));
}

fn tunnel_name(folder: &Path) -> Option<String> {
    let run = uspan(folder, &["check", "d.span.toml", "--format", "json"]);
    let value: serde_json::Value = serde_json::from_str(&run.stdout).ok()?;
    Some(value["tunnels"].as_array()?.first()?["tunnel"].as_str()?.to_owned())
}

fn shortened(value: &str) -> String {
    value.chars().take(80).collect()
}
