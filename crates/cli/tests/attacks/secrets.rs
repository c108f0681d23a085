//! What is shown of secrets, and what of them could be guessed.

use std::fs;
use std::path::Path;

use crate::common::{orchard, uspan, write};

/// A file of a gateway that is wrong, and holds this where no secret belongs.
const HIDDEN: &str = "XsecretX9f8e7d";

/// Files that are wrong in ways that people and editors make them; each below its gateway's `/`, with its mode.
fn wrong() -> Vec<(&'static str, String, u32)> {
    let policy = "ikev2 \"harvest\" active esp from 10.41.0.0/22 to 10.73.16.0/20 local 198.51.100.20 peer 203.0.113.77";
    let mut cases: Vec<(&'static str, String, u32)> = Vec::new();
    for text in [
        format!("{policy} psk \\\n\"A\" \\\n{HIDDEN}\n"),
        format!("{policy} spk \"{HIDDEN}\"\n"),
        format!("{policy} {HIDDEN}\n"),
        format!("{policy} psk\n{HIDDEN}\n"),
        format!("{policy} \\\n\tpsk \"{HIDDEN}\nset passive\n"),
        format!("{policy} srcid \"a.example.net\" psk{HIDDEN}\n"),
        format!("secret = \"{HIDDEN}\"\n{policy} psk $secret\n"),
        format!("secret = \"{HIDDEN}\"\n{policy} tag $secret $secret\n"),
        format!("user \"ines\" \"{HIDDEN}\"\n{policy}\n"),
        format!("{policy} psk \"a\" {HIDDEN} lifetime 1h\n"),
        format!("{policy} lifetime {HIDDEN}\n"),
    ] {
        cases.push(("etc/iked.conf", text.clone(), 0o600));
        cases.push(("etc/iked.conf", text, 0o644));
    }
    let connection = "connections {\n harvest {\n  version = 2\n  local_addrs = 198.51.100.20\n  remote_addrs = 203.0.113.77\n  local { auth = psk }\n  remote { auth = psk }\n children { c { local_ts = 10.41.0.0/22\n remote_ts = 10.73.16.0/20 } }\n }\n}\n";
    for text in [
        format!("{connection}secrets {{ x {{ secrte = {HIDDEN} }} }}\n"),
        format!("{connection}secrets {{ x {{ secret =\n   {HIDDEN}\n }} }}\n"),
        format!("{connection}secrets {{ x {{ id = a }} }} }}\n secret = {HIDDEN}\n"),
        format!("{connection}sercets {{ x {{ secrte = {HIDDEN} }} }}\n"),
        format!("{connection}secrets {{\n x {{\n secret = \"{HIDDEN}\n }}\n}}\n"),
        format!("{connection}secrets {{\n x {HIDDEN}\n}}\n"),
        format!("{connection}}}\n}}\n x {{ y = {HIDDEN} }}\n"),
        format!("connections {{ harvest {{ secret = {HIDDEN}\n psk = {HIDDEN}\n key = {HIDDEN} }} }}\n"),
        format!("connections {{\n harvest {{\n version = 2 # {HIDDEN}\n odd = 1 # {HIDDEN}\n }}\n}}\n{HIDDEN}\n"),
        format!("# {HIDDEN}\nodd {HIDDEN}\n"),
        format!("include {HIDDEN}\n{connection}"),
    ] {
        cases.push(("etc/swanctl/swanctl.conf", text.clone(), 0o644));
        cases.push(("etc/swanctl/swanctl.conf", text, 0o600));
    }
    let conn = "conn harvest\n\tleft=198.51.100.20\n\tright=203.0.113.77\n\tauthby=secret\n\tleftsubnet=10.41.0.0/22\n\trightsubnet=10.73.16.0/20\n";
    for text in [
        format!("{conn}: PSK \"{HIDDEN}\"\n"),
        format!("{conn}\tpsk={HIDDEN}\n"),
        format!("{conn}\tsecret=\"{HIDDEN}\n"),
        format!("{conn}\t{HIDDEN}\n"),
        format!("{conn}include /etc/ipsec.d/*.secrets\n"),
        format!("{conn}\todd={HIDDEN}\n\tikelifetime=8h # {HIDDEN}\n"),
        format!("{conn}{HIDDEN}=1\n"),
    ] {
        cases.push(("etc/ipsec.conf", text, 0o644));
    }
    for text in [
        format!("198.51.100.20 203.0.113.77 : PSK {HIDDEN}\n"),
        format!("198.51.100.20 203.0.113.77 PSK \"{HIDDEN}\"\n"),
        format!("{HIDDEN}\n"),
        format!(": XAUTH \"{HIDDEN}\"\n: PSK \"{HIDDEN}\n"),
    ] {
        cases.push(("etc/ipsec.d/a.secrets", text, 0o600));
        // One that got among the settings.
        cases.push(("etc/ipsec.d/a.conf", cases.last().expect("just added").1.clone(), 0o644));
    }
    cases.push(("etc/frr/uspan-harvest.conf", format!("router bgp 64512\n neighbor 10.254.0.1 password {HIDDEN}\n key {HIDDEN}\n"), 0o640));
    cases.push(("etc/network/interfaces.d/uspan-harvest", format!("iface x inet manual\n\twpa-psk {HIDDEN}\n\todd {HIDDEN}\n"), 0o644));
    cases
}

/// In no command, no format and no line is anything of it shown.
#[test]
fn nothing_of_a_secret_is_shown_however_wrong_the_file_is() {
    let (mut runs, mut quiet) = (0, Vec::new());
    for (file, text, mode) in wrong() {
        let folder = orchard();
        let path = folder.path();
        assert_eq!(uspan(path, &["build", "orchard.span.toml", "-o", "out"]).code, 0);
        let _ = fs::remove_dir_all(path.join("out/packhouse/etc"));
        fs::create_dir_all(path.join("out/packhouse/etc")).expect("made");
        let gateway = path.join("out/packhouse");
        write(&gateway.join(file), &text, mode);
        let platform = match file {
            _ if file.contains("iked") => "openiked",
            _ if file.contains("swanctl") => "strongswan",
            _ => "libreswan",
        };
        if platform == "libreswan" && !file.starts_with("etc/ipsec") {
            write(&gateway.join("etc/ipsec.conf"), "conn harvest\n\tleft=198.51.100.20\n\tright=203.0.113.77\n", 0o644);
        }
        if file.ends_with("secrets") || text.contains("*.secrets") {
            write(&gateway.join("etc/ipsec.d/more.secrets"), format!(": PSK \"{HIDDEN}\"\n"), 0o600);
            write(&gateway.join("etc/ipsec.d/b.conf"), "conn harvest\n\tleft=198.51.100.20\n\tright=203.0.113.77\n", 0o644);
        }
        for args in [
            &["compare", "out/packhouse", "out/coldstore", "--first-platform", platform][..],
            &["compare", "out/packhouse", "out/coldstore", "--first-platform", platform, "--format", "json"],
            &["rehearse", "out/packhouse", "out/coldstore", "--first-platform", platform],
            &["rehearse", "out/packhouse", "out/coldstore", "--first-platform", platform, "--format", "json"],
            &["walk", "out/packhouse", "out/coldstore", "--from", "10.41.0.9", "--to", "10.73.16.9", "--first-platform", platform],
            &[
                "walk",
                "out/packhouse",
                "out/coldstore",
                "--from",
                "10.41.0.9",
                "--to",
                "10.73.16.9",
                "--first-platform",
                platform,
                "--format",
                "json",
            ],
            &["adopt", "out/packhouse", "out/coldstore", "--first-platform", platform, "-o", "ad/a.span.toml", "--replace"],
            &[
                "adopt",
                "out/packhouse",
                "out/coldstore",
                "--first-platform",
                platform,
                "-o",
                "ad/a.span.toml",
                "--replace",
                "--format",
                "json",
            ],
        ] {
            let run = uspan(path, args);
            runs += 1;
            assert!(run.code != 101, "{args:?}: {}", run.all());
            // Any piece of it as long as half of it.
            for piece in HIDDEN.as_bytes().windows(7).map(|piece| std::str::from_utf8(piece).expect("text")) {
                if run.all().contains(piece) {
                    quiet.push(format!("{file} {mode:o} {:?}\n  {args:?}\n  {}", text, lines_with(&run.all(), piece)));
                    break;
                }
            }
        }
    }
    assert!(quiet.is_empty(), "{} of {runs} runs show a secret:\n{}", quiet.len(), quiet.join("\n"));
}

fn lines_with(text: &str, piece: &str) -> String {
    text.lines().filter(|line| line.contains(piece)).take(3).collect::<Vec<_>>().join("\n  ")
}

/// A command that is told to people runs nothing but what it says, whatever a file is called.
#[test]
fn the_name_of_a_file_is_one_word_of_a_command() {
    for name in [
        "k$(touch PWNED)",
        "k`touch PWNED`",
        "k;touch PWNED;",
        "k' touch PWNED '",
        "-rf",
        "a b",
        "k|touch PWNED",
        "k&touch PWNED",
        "k>PWNED",
        "k\\",
    ] {
        let folder = orchard();
        let path = folder.path();
        let text = fs::read_to_string(path.join("orchard.span.toml")).expect("read");
        fs::rename(path.join("secrets/harvest.key"), path.join(name)).expect("renamed");
        let quoted = serde_json::Value::from(name).to_string();
        write(&path.join("orchard.span.toml"), text.replace("\"secrets/harvest.key\"", &quoted), 0o644);
        let run = uspan(path, &["sheet", "orchard.span.toml", "--format", "json"]);
        assert_eq!(run.code, 0, "{name}: {}", run.all());
        let handover = run.json()["sheets"][0]["handovers"][0].clone();
        let said =
            std::process::Command::new("sh").args(["-c", handover["command"].as_str().expect("a command")]).current_dir(path).output();
        let said = String::from_utf8_lossy(&said.expect("a shell").stdout).trim().to_owned();
        assert_eq!(Some(said.as_str()), handover["fingerprint"].as_str(), "{name}: {handover}");
        assert_eq!(said.len(), 32, "{name}");
        assert!(!path.join("PWNED").exists(), "{name}");
        for format in ["text", "markdown", "html"] {
            let sheet = uspan(path, &["sheet", "orchard.span.toml", "--format", format]);
            assert_eq!(sheet.code, 0, "{name}: {}", sheet.all());
        }
    }
}

/// A folder's name in a command that is told.
#[test]
fn the_name_of_an_output_is_one_word_of_a_command() {
    let folder = orchard();
    for name in ["o $(touch PWNED)", "it's"] {
        let run = uspan(folder.path(), &["build", "orchard.span.toml", "-o", name]);
        assert_eq!(run.code, 0, "{}", run.all());
        let begin = "Next: copy each folder in ";
        let line = run.stdout.lines().find(|line| line.starts_with(begin)).expect("a line");
        let word = line.strip_prefix(begin).and_then(|rest| rest.split(" to its gateway").next()).expect("a word");
        let said = std::process::Command::new("sh")
            .args(["-c", &format!("printf %s {word}")])
            .current_dir(folder.path())
            .output()
            .expect("a shell");
        assert_eq!(String::from_utf8_lossy(&said.stdout), name);
        assert!(!folder.path().join("PWNED").exists());
    }
}

/// Sentences of any language, and names that stand in the description, are no secrets; and what no machine drew has no fingerprint.
#[test]
fn secrets_are_judged_with_the_names_at_hand() {
    let folder = orchard();
    let path = folder.path();
    let judged = |secret: &str| {
        write(&path.join("secrets/harvest.key"), format!("{secret}\n"), 0o600);
        let run = uspan(path, &["check", "orchard.span.toml", "--format", "json"]);
        let codes: Vec<String> =
            run.json()["findings"].as_array().expect("a list").iter().filter_map(|f| Some(f["code"].as_str()?.to_owned())).collect();
        let sheet = uspan(path, &["sheet", "orchard.span.toml", "--format", "json"]);
        let fingerprint =
            if sheet.code == 0 { sheet.json()["sheets"][0]["handovers"][0]["fingerprint"].clone() } else { serde_json::Value::Null };
        assert!(!run.all().contains(secret) && !sheet.all().contains(secret));
        (codes.iter().any(|code| code == "US514" || code == "US520"), fingerprint.is_string())
    };
    for weak in [
        "wir-fahren-mit-dem-zug-nach-koblenz",
        "vierzehnter-oktober-im-oberen-stock",
        "AlderCreekOrchardsPackhouseColdstore",
        "packhouse-coldstore-harvest-2026",
    ] {
        assert_eq!(judged(weak), (true, false), "{weak}");
    }
    for _ in 0..20 {
        assert_eq!(uspan(path, &["secret", "secrets/harvest.key", "--replace"]).code, 0);
        let drawn = fs::read_to_string(path.join("secrets/harvest.key")).expect("read");
        assert_eq!(judged(drawn.trim()), (false, true), "a secret that was drawn");
    }
}

/// Nothing of a secret is in arguments or in the environment of anything that is started, and its file is its owner's alone.
#[test]
fn a_secret_that_is_not_text_is_taken_over_byte_for_byte() {
    let folder = orchard();
    let path: &Path = folder.path();
    assert_eq!(uspan(path, &["build", "orchard.span.toml", "-o", "out"]).code, 0);
    let run = uspan(path, &["adopt", "out/packhouse", "out/coldstore", "-o", "ad/a.span.toml"]);
    assert!(run.code <= 1, "{}", run.all());
    assert_eq!(fs::read(path.join("ad/secrets/harvest.key")).expect("read"), fs::read(path.join("secrets/harvest.key")).expect("read"));
}
