//! The program held against files of gateways: compared, rehearsed, walked, taken over, moved.

#![allow(clippy::disallowed_methods, clippy::disallowed_macros, reason = "tests have files of their own")]

mod common;

use std::fs;
use std::os::unix::fs::symlink;
use std::path::Path;

use common::{SECRET, build, mode, orchard, uspan, write};
use serde_json::Value;

/// Replaces a text in a file below a folder.
fn edit(folder: &Path, path: &str, old: &str, new: &str) {
    let at = folder.join(path);
    let text = fs::read_to_string(&at).expect("read");
    assert!(text.contains(old), "{old} is not in {path}");
    fs::write(&at, text.replace(old, new)).expect("written");
}

const COLD: &str = "out/coldstore/etc/ipsec.d/harvest.conf";

#[test]
fn compare_says_what_is_fatal_where_it_stands_and_exits_with_one() {
    let folder = orchard();
    build(folder.path(), &[]);
    let compare = |more: &[&str]| uspan(folder.path(), &[&["compare", "out/packhouse", "out/coldstore"][..], more].concat());
    let run = compare(&[]);
    assert_eq!(run.code, 0, "{}", run.all());
    assert!(run.stdout.contains("The two ends are alike"), "{}", run.stdout);
    edit(folder.path(), COLD, "pfs=yes", "pfs=no");
    edit(folder.path(), COLD, "rightsubnet=10.41.0.0/22", "rightsubnet=10.41.0.0/24");
    edit(folder.path(), COLD, "ikelifetime=28800s", "ikelifetime=14400s");
    let run = compare(&[]);
    assert_eq!(run.code, 1);
    insta::assert_snapshot!(run.stdout.split("equal ").next().unwrap_or_default());
    let json = compare(&["--format", "json"]).json();
    let fatal = json["pairs"][0]["parameters"].as_array().expect("a list").iter().filter(|row| row["gravity"] == "fatal");
    let places: Vec<_> = fatal.map(|row| (row["parameter"].as_str(), row["values"][1]["place"]["line"].as_u64())).collect();
    assert!(places.contains(&(Some("what may cross"), Some(7))), "{places:?}");
    assert_eq!((&json["fine"], &json["between"][0]), (&Value::Bool(false), &Value::String("packhouse".to_owned())));
    assert_eq!(compare(&["--tunnel", "harvest"]).code, 1);
    assert_eq!(compare(&["--tunnel", "other"]).code, 2);
}

/// A value that the daemon refuses may be read as its default, which fits by chance: then nothing is fine.
#[test]
fn what_a_daemon_would_refuse_is_never_fine() {
    let folder = orchard();
    build(folder.path(), &[]);
    edit(folder.path(), COLD, "pfs=yes", "pfs=perhaps");
    let ways: [&[&str]; 3] = [&["compare"], &["rehearse"], &["walk", "--from", "10.41.1.7", "--to", "10.73.16.9", "--service", "ping"]];
    for way in ways {
        let run = uspan(folder.path(), &[way, &["out/packhouse", "out/coldstore"]].concat());
        assert_eq!(run.code, 1, "{}", run.all());
        let says = ["It cannot be said: 2 errors in the files", "does not take the connection"];
        assert!(says.iter().any(|text| run.stdout.split_whitespace().collect::<Vec<_>>().join(" ").contains(text)), "{}", run.all());
        let json = uspan(folder.path(), &[way, &["out/packhouse", "out/coldstore", "--format", "json"]].concat()).json();
        assert_eq!(json["fine"], Value::Bool(false), "{way:?}");
    }
}

#[test]
fn rehearse_says_at_which_message_it_fails_and_which_line_to_change() {
    let folder = orchard();
    build(folder.path(), &[]);
    let rehearse = |more: &[&str]| uspan(folder.path(), &[&["rehearse", "out/packhouse", "out/coldstore"][..], more].concat());
    let run = rehearse(&[]);
    assert_eq!(run.code, 0, "{}", run.all());
    assert!(run.stdout.contains("The tunnel comes up"), "{}", run.stdout);
    edit(folder.path(), COLD, "rightsubnet=10.41.0.0/22", "rightsubnet=10.42.0.0/22");
    let run = rehearse(&["--svg", "ladder.svg"]);
    assert_eq!(run.code, 1, "{}", run.all());
    insta::assert_snapshot!(run.stdout);
    let svg = fs::read_to_string(folder.path().join("ladder.svg")).expect("a picture");
    assert!(svg.starts_with("<svg") && svg.contains("N(TS_UNACCEPTABLE)") && svg.contains("Fails at message 4 (TS_UNACCEPTABLE)"), "{svg}");
    let json = rehearse(&["--format", "json"]).json();
    let failure = &json["rehearsals"][0]["failures"][0];
    assert_eq!((&failure["stage"], &failure["message"], &failure["notify"]["number"]), (&"child-sa".into(), &4.into(), &38.into()));
    assert_eq!((&failure["cures"][0]["place"]["file"], &failure["cures"][0]["place"]["line"]), (&COLD.into(), &8.into()));
    // What a build would write is not what stands there.
    assert_eq!(uspan(folder.path(), &["rehearse", "orchard.span.toml"]).code, 0);
    assert_eq!(uspan(folder.path(), &["rehearse", "orchard.span.toml", "--built", "out"]).code, 1);
    // The other end can open; nobody else can.
    let run = rehearse(&["--from", "coldstore", "--format", "json"]);
    assert_eq!(run.json()["rehearsals"][0]["opens"], "coldstore");
    assert_eq!((rehearse(&["--from", "press"]).code, rehearse(&["--tunnel", "other"]).code), (2, 2));
    // A picture takes the place of a picture, and of nothing else.
    assert_eq!(rehearse(&["--svg", "ladder.svg"]).code, 1);
    let run = rehearse(&["--svg", "orchard.span.toml"]);
    assert_eq!(run.code, 2, "{}", run.all());
    assert!(fs::read_to_string(folder.path().join("orchard.span.toml")).expect("still there").starts_with("# "));
}

#[test]
fn compare_against_the_description_finds_what_was_changed_since() {
    let folder = orchard();
    build(folder.path(), &[]);
    let against =
        |more: &[&str]| uspan(folder.path(), &[&["compare", "out/coldstore", "--against", "orchard.span.toml"][..], more].concat());
    let run = against(&[]);
    assert_eq!(run.code, 0, "{}", run.all());
    assert!(run.stdout.contains("as described"), "{}", run.stdout);
    edit(folder.path(), COLD, "dpddelay=30s", "dpddelay=45s");
    let run = against(&["--site", "coldstore"]);
    assert_eq!(run.code, 1, "{}", run.all());
    assert!(run.stdout.contains("differs liveness") && run.stdout.contains("1 change"), "{}", run.stdout);
    assert_eq!(against(&["--site", "press"]).code, 2);
    fs::remove_file(folder.path().join(COLD)).expect("removed");
    let run = against(&[]);
    assert_eq!(run.code, 1, "{}", run.all());
    assert!(run.stdout.contains("description: without a counterpart: harvest"), "{}", run.stdout);
}

#[test]
fn compare_reads_what_is_there_and_says_what_it_cannot() {
    let folder = orchard();
    build(folder.path(), &[]);
    let compare = |left: &str, more: &[&str]| uspan(folder.path(), &[&["compare", left, "out/coldstore"][..], more].concat());
    // A database of keys, a link in a circle, and files of others do no harm.
    write(&folder.path().join("out/packhouse/etc/swanctl/x509/a.bin"), [0xff_u8, 0xfe, 0], 0o600);
    symlink("..", folder.path().join("out/packhouse/etc/swanctl/up")).expect("a link");
    edit(folder.path(), "out/packhouse/etc/swanctl/conf.d/harvest.conf", "version = 2", "version = 2\n    childless = force");
    let run = compare("out/packhouse", &[]);
    assert_eq!(run.code, 1, "{}", run.all());
    assert!(run.stdout.contains("It cannot be said") && run.stdout.contains("childless = force"), "{}", run.all());
    assert!(run.stderr.contains("US802") && run.stderr.contains("harvest.conf:"), "{}", run.stderr);
    // A line with a secret is never drawn.
    let secrets = "out/packhouse/etc/swanctl/conf.d/harvest.secrets.conf";
    edit(folder.path(), secrets, "secret = 0x", "secret = 0xnothex");
    let run = compare("out/packhouse", &[]);
    assert_eq!(run.code, 1, "{}", run.all());
    let hex: String = SECRET.bytes().map(|b| format!("{b:02x}")).collect();
    assert!(!run.all().contains(&hex) && run.stdout.contains("shared secret"), "{}", run.all());
    // Files of two daemons in one tree: somebody must say which.
    write(&folder.path().join("out/packhouse/etc/ipsec.conf"), "config setup\n", 0o644);
    let run = compare("out/packhouse", &[]);
    assert_eq!((run.code, run.stderr.contains("--first-platform")), (2, true), "{}", run.all());
    assert_eq!(compare("out/packhouse", &["--first-platform", "strongswan"]).code, 1);
    for (left, says) in [("secrets", "no folder"), ("out", "no folder")] {
        let run = compare(left, &[]);
        assert_eq!((run.code, run.stderr.contains(says)), (2, true), "{}", run.all());
    }
    fs::create_dir_all(folder.path().join("empty/etc")).expect("made");
    assert_eq!(compare("empty", &[]).code, 2);
}

#[test]
fn walk_shows_the_line_that_decides_at_each_hop() {
    let folder = orchard();
    build(folder.path(), &[]);
    let walk = |more: &[&str]| {
        let args = ["walk", "out/packhouse", "out/coldstore", "--from", "10.41.0.10", "--to", "10.73.16.10"];
        uspan(folder.path(), &[&args[..], more].concat())
    };
    let run = walk(&[]);
    assert_eq!(run.code, 0, "{}", run.all());
    assert!(run.stdout.contains("the answer comes back"), "{}", run.stdout);
    const RULES: &str = "out/coldstore/etc/nftables.d/uspan-harvest.nft";
    edit(folder.path(), RULES, "ip saddr 10.41.0.0/22 ip daddr 10.73.16.0/20 meta ipsec exists counter accept\n", "\n");
    let run = walk(&["--service", "https"]);
    assert_eq!(run.code, 1, "{}", run.all());
    insta::assert_snapshot!(run.stdout);
    let json = walk(&["--format", "json"]).json();
    let last = json["there"]["hops"].as_array().and_then(|hops| hops.last()).expect("a hop").clone();
    assert_eq!((&last["at"], &last["what"], &last["passes"]), (&"coldstore".into(), &"filter".into(), &false.into()));
    assert!(last["decided_by"].as_str().is_some_and(|at| at.starts_with(RULES)), "{last}");
    assert_eq!(json["back"], Value::Null);
    // The gateway's own address is outside of the selectors; one that is inside is not.
    let from = |address: &str, more: &[&str]| {
        let args = ["walk", "orchard.span.toml", "--from", address, "--to", "10.73.16.10"];
        uspan(folder.path(), &[&args[..], more].concat())
    };
    let run = from("198.51.100.20", &[]);
    assert_eq!(run.code, 1, "{}", run.all());
    assert!(run.stdout.contains("Send it from an address inside the selectors"), "{}", run.stdout);
    assert_eq!(from("10.41.0.1", &["--inside", "packhouse=10.41.0.1"]).code, 0);
    for wrong in [&["--service", "https/1"][..], &["--inside", "press=10.1.1.1"]] {
        assert_eq!(walk(wrong).code, 2, "{wrong:?}");
    }
    assert_eq!(from("192.0.2.77", &[]).code, 2, "nobody is there");
    assert_eq!(from("2001:db8::7", &[]).code, 2, "two families");
}

#[test]
fn adopt_makes_a_description_that_builds_the_same_gateways() {
    let folder = orchard();
    build(folder.path(), &[]);
    let run = uspan(folder.path(), &["adopt", "out/packhouse", "out/coldstore", "-o", "taken/over.span.toml"]);
    assert_eq!(run.code, 0, "{}", run.all());
    assert!(!run.stdout.contains("changes "), "{}", run.stdout);
    let hex: String = SECRET.bytes().map(|b| format!("{b:02x}")).collect();
    assert!(!run.all().contains(SECRET) && !run.all().contains(&hex));
    assert_eq!(mode(&folder.path().join("taken/secrets/harvest.key")), 0o600);
    let text = fs::read_to_string(folder.path().join("taken/over.span.toml")).expect("written");
    insta::assert_snapshot!(text);
    assert!(!text.contains(SECRET) && !text.contains(&hex));
    let run = uspan(folder.path(), &["build", "taken/over.span.toml", "-o", "again"]);
    assert_eq!(run.code, 0, "{}", run.all());
    let run = uspan(folder.path(), &["compare", "out/packhouse", "again/packhouse"]);
    assert!(run.code <= 1, "{}", run.all());
    // The daemons' own files come back but for the remarks, which name another description.
    let plain = |path: &str| -> Vec<String> {
        let text = fs::read_to_string(folder.path().join(path)).expect("read");
        text.lines().map(|line| line.split('#').next().unwrap_or_default().trim_end().to_owned()).filter(|line| !line.is_empty()).collect()
    };
    for file in ["packhouse/etc/swanctl/conf.d/harvest.conf", "coldstore/etc/ipsec.d/harvest.conf"] {
        assert_eq!(plain(&format!("out/{file}")), plain(&format!("again/{file}")), "{file}");
    }
    // Nothing is written over unasked.
    let again = uspan(folder.path(), &["adopt", "out/packhouse", "out/coldstore", "-o", "taken/over.span.toml"]);
    assert_eq!(again.code, 2, "{}", again.all());
    edit(folder.path(), COLD, "pfs=yes", "pfs=no");
    let run =
        uspan(folder.path(), &["adopt", "out/packhouse", "out/coldstore", "-o", "taken/over.span.toml", "--replace", "--format", "json"]);
    assert_eq!(run.code, 1, "{}", run.all());
    let json = run.json();
    let fatal: Vec<_> = json["notes"].as_array().expect("notes").iter().filter(|note| note["fatal"] == true).collect();
    assert_eq!((fatal.len(), &fatal[0]["about"], &json["changes"][0]["site"]), (1, &"PFS".into(), &"coldstore".into()));
    assert!(fatal[0]["places"][1].as_str().is_some_and(|place| place.starts_with(COLD)), "{fatal:?}");
}

#[test]
fn move_reports_what_is_carried_over_and_changes_one_word() {
    let folder = orchard();
    let moved = |more: &[&str]| uspan(folder.path(), &[&["move", "orchard.span.toml", "--site", "coldstore"][..], more].concat());
    let run = moved(&["--to", "openiked"]);
    assert_eq!(run.code, 0, "{}", run.all());
    insta::assert_snapshot!(run.stdout);
    let run = moved(&["--to", "strongswan", "-o", "new.span.toml", "--format", "json"]);
    assert_eq!(run.code, 0, "{}", run.all());
    let json = run.json();
    assert_eq!((&json["tunnels"][0]["changed"], &json["peers_changed"]), (&serde_json::json!([]), &serde_json::json!([])));
    let read = |file: &str| fs::read_to_string(folder.path().join(file)).expect("read");
    assert_eq!(read("new.span.toml").trim_end(), read("orchard.span.toml").replace("\"libreswan\"", "\"strongswan\"").trim_end());
    assert_eq!(uspan(folder.path(), &["build", "new.span.toml", "-o", "out"]).code, 0);
    for wrong in [&["--to", "libreswan"][..], &["--to", "other"], &["--to", "strongswan", "-o", "new.span.toml"]] {
        assert_eq!(moved(wrong).code, 2, "{wrong:?}");
    }
    // What the other platform cannot do stops it.
    edit(folder.path(), "orchard.span.toml", "[tunnel.harvest]\n", "[tunnel.harvest]\nextended-sequence-numbers = true\n");
    let run = moved(&["--to", "openiked", "-o", "never.span.toml"]);
    assert_eq!(run.code, 1, "{}", run.all());
    assert!(run.all().contains("US603") && !folder.path().join("never.span.toml").exists(), "{}", run.all());
}
