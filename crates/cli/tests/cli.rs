//! The program as its users meet it.

#![allow(clippy::disallowed_methods, clippy::disallowed_macros, reason = "tests have files of their own")]

mod common;

use std::fs;
use std::os::unix::fs::symlink;
use std::path::Path;

use common::{SECRET, build, files, mode, orchard, uspan, write, write_keys};
use serde_json::Value;

#[test]
fn demo_writes_a_description_a_secret_and_two_trees() {
    let folder = tempfile::tempdir().expect("a folder");
    let run = uspan(folder.path(), &["demo"]);
    assert_eq!(run.code, 0, "{}", run.stderr);
    let demo = folder.path().join("orchard-demo");
    for path in [
        "out/packhouse/etc/swanctl/conf.d/harvest.conf",
        "out/packhouse/etc/nftables.d/uspan-harvest.nft",
        "out/coldstore/etc/ipsec.d/harvest.conf",
        "out/coldstore/etc/nftables.d/uspan-harvest.nft",
    ] {
        assert_eq!(mode(&demo.join(path)), 0o644, "{path}");
        assert!(run.stdout.contains(path), "{path}");
    }
    for path in
        ["secrets/harvest.key", "out/packhouse/etc/swanctl/conf.d/harvest.secrets.conf", "out/coldstore/etc/ipsec.d/harvest.secrets"]
    {
        assert_eq!(mode(&demo.join(path)), 0o600, "{path}");
    }
    // The secret is on both gateways and nowhere in what was printed.
    let secret = fs::read_to_string(demo.join("secrets/harvest.key")).expect("read");
    let hex: String = secret.trim_end().bytes().map(|b| format!("{b:02x}")).collect();
    assert!(!run.all().contains(secret.trim_end()) && !run.all().contains(&hex));
    let again = uspan(folder.path(), &["demo"]);
    assert_eq!(again.code, 0);
    assert_eq!(fs::read_to_string(demo.join("secrets/harvest.key")).expect("read"), secret, "a second run keeps the secret");
}

#[test]
fn no_output_shows_a_secret() {
    let folder = orchard();
    let hex: String = SECRET.bytes().map(|b| format!("{b:02x}")).collect();
    build(folder.path(), &[]);
    for args in [
        &["check", "orchard.span.toml"][..],
        &["check", "orchard.span.toml", "--reasons"],
        &["check", "orchard.span.toml", "--format", "json"],
        &["build", "orchard.span.toml", "-o", "out"],
        &["compare", "out/packhouse", "out/coldstore"],
        &["compare", "out/packhouse", "out/coldstore", "--format", "json"],
        &["compare", "out/coldstore", "--against", "orchard.span.toml"],
        &["rehearse", "orchard.span.toml"],
        &["rehearse", "out/packhouse", "out/coldstore", "--format", "json"],
        &["rehearse", "out/packhouse", "out/coldstore", "--svg", "ladder.svg"],
        &["build", "orchard.span.toml", "-o", "other", "--format", "json"],
    ] {
        let run = uspan(folder.path(), args);
        assert_eq!(run.code, 0, "{args:?} {}", run.stderr);
        assert!(!run.all().contains(SECRET) && !run.all().contains(&hex), "{args:?}");
    }
    // Only private files hold it.
    for path in files(&folder.path().join("out")) {
        let text = fs::read_to_string(&path).expect("text");
        assert!(!(text.contains(SECRET) || text.contains(&hex)) || mode(&path) == 0o600, "{}", path.display());
    }
}

#[test]
fn building_twice_changes_nothing() {
    let folder = orchard();
    assert_eq!(build(folder.path(), &[]).code, 0);
    let before: Vec<_> = files(&folder.path().join("out")).into_iter().map(|p| (fs::read(&p).expect("read"), p)).collect();
    let run = build(folder.path(), &["--format", "json"]);
    assert!(run.json()["files"].as_array().expect("a list").iter().all(|file| file["change"] == "same"));
    let after: Vec<_> = files(&folder.path().join("out")).into_iter().map(|p| (fs::read(&p).expect("read"), p)).collect();
    assert_eq!(before, after);
}

#[test]
fn what_was_changed_by_hand_is_not_overwritten() {
    let folder = orchard();
    build(folder.path(), &[]);
    let changed = folder.path().join("out/coldstore/etc/ipsec.d/harvest.conf");
    fs::write(&changed, "by hand\n").expect("written");
    let run = build(folder.path(), &["--format", "json"]);
    assert_eq!(run.code, 1);
    assert_eq!(run.json()["findings"][0]["code"], "US902");
    assert_eq!(fs::read_to_string(&changed).expect("read"), "by hand\n");
    assert_eq!(build(folder.path(), &["--replace"]).code, 0);
    assert!(fs::read_to_string(&changed).expect("read").contains("conn harvest"));
}

#[test]
fn a_foreign_file_in_the_way_stops_everything_and_one_beside_is_kept() {
    let folder = orchard();
    let mine = folder.path().join("out/packhouse/etc/swanctl/conf.d/harvest.conf");
    write(&mine, "mine", 0o600);
    write(&folder.path().join("out/notes.txt"), "call Ines", 0o640);
    symlink("notes.txt", folder.path().join("out/link")).expect("linked");
    let run = build(folder.path(), &[]);
    assert_eq!(run.code, 1);
    assert!(run.stderr.contains("US901"), "{}", run.stderr);
    assert_eq!(files(&folder.path().join("out")).len(), 3, "nothing was written");
    fs::remove_file(&mine).expect("removed");
    assert_eq!(build(folder.path(), &[]).code, 0);
    assert_eq!(fs::read_to_string(folder.path().join("out/notes.txt")).expect("kept"), "call Ines");
    assert_eq!(mode(&folder.path().join("out/notes.txt")), 0o640);
    assert_eq!(fs::read_link(folder.path().join("out/link")).expect("kept"), Path::new("notes.txt"));
}

#[test]
fn a_link_where_a_file_belongs_is_not_followed() {
    let folder = orchard();
    write(&folder.path().join("elsewhere"), "untouched", 0o644);
    let target = folder.path().join("out/packhouse/etc/swanctl/conf.d");
    fs::create_dir_all(&target).expect("made");
    symlink(folder.path().join("elsewhere"), target.join("harvest.secrets.conf")).expect("linked");
    assert_eq!(build(folder.path(), &[]).code, 1);
    assert_eq!(build(folder.path(), &["--replace"]).code, 0);
    assert_eq!(fs::read_to_string(folder.path().join("elsewhere")).expect("there"), "untouched");
    assert_eq!(mode(&target.join("harvest.secrets.conf")), 0o600);
}

#[test]
fn a_renamed_tunnel_takes_its_old_files_along() {
    let folder = orchard();
    build(folder.path(), &[]);
    let path = folder.path().join("orchard.span.toml");
    let text = fs::read_to_string(&path).expect("read").replace("tunnel.harvest", "tunnel.autumn");
    fs::write(&path, text).expect("written");
    let run = build(folder.path(), &["--format", "json"]);
    let removed = run.json()["files"].as_array().expect("a list").iter().filter(|file| file["change"] == "removed").count();
    assert_eq!((run.code, removed), (0, 6));
    assert!(files(&folder.path().join("out")).iter().all(|path| !path.to_string_lossy().contains("harvest")));
}

#[test]
fn adding_a_site_changes_no_other_files() {
    let folder = orchard();
    build(folder.path(), &[]);
    let path = folder.path().join("orchard.span.toml");
    let text = fs::read_to_string(&path).expect("read");
    let more = "[site.press]\nplatform = \"libreswan\"\ngateway = { address = \"192.0.2.9\", outside = \"wan0\", inside = \"lan0\" }\n\
                networks = { vats = \"10.99.0.0/24\" }\n[tunnel.juice]\nbetween = [\"press\", \"packhouse\"]\nsecret = { file = \"juice.key\" }\n\n[site.packhouse]";
    fs::write(&path, text.replace("[site.packhouse]", more)).expect("written");
    write(&folder.path().join("juice.key"), "Zr4uY8wQe1TnM5pVb9XcF2kDhG7jLsO0aPiEyNtC6vB\n", 0o600);
    let run = build(folder.path(), &["--format", "json"]);
    assert_eq!(run.code, 0, "{}", run.stdout);
    let json = run.json();
    let changes = |word: &str| json["files"].as_array().expect("a list").iter().filter(|file| file["change"] == word).count();
    // The gateway of both has one more list of files in its program.
    assert_eq!((changes("same"), changes("new"), changes("changed")), (7, 7, 1));
}

/// What has not changed is left out; its gateway keeps it all the same.
#[test]
fn a_delivery_of_what_changed_knows_all_files_of_its_gateway() {
    let folder = orchard();
    build(folder.path(), &[]);
    let path = folder.path().join("orchard.span.toml");
    let text = fs::read_to_string(&path).expect("read");
    fs::write(&path, text.replace("10.41.8.0/24", "10.41.9.0/24")).expect("written");
    let run = uspan(folder.path(), &["build", "orchard.span.toml", "-o", "delta", "--changed-since", "out", "--format", "json"]);
    assert_eq!(run.code, 0, "{}", run.all());
    let delta = folder.path().join("delta");
    assert!(!delta.join("packhouse/etc/swanctl/conf.d/harvest.secrets.conf").exists());
    let program = fs::read_to_string(delta.join("packhouse/take-up.sh")).expect("a program");
    assert!(program.contains("\n600 etc/swanctl/conf.d/harvest.secrets.conf\n"), "{program}");
    // It is no new tunnel that is taken up.
    let plan = run.json()["plan"].to_string();
    assert!(plan.contains("the tunnels whose files change"), "{plan}");
    // Nothing changed: nothing goes anywhere.
    let run = uspan(folder.path(), &["build", "orchard.span.toml", "-o", "out"]);
    assert_eq!(run.code, 0, "{}", run.all());
    let run = uspan(folder.path(), &["build", "orchard.span.toml", "-o", "none", "--changed-since", "out", "--format", "json"]);
    assert_eq!((run.code, run.json()["files"].as_array().map(Vec::len), &run.json()["plan"]), (0, Some(0), &Value::Array(Vec::new())));
}

#[test]
fn the_output_may_not_be_a_file_and_the_folder_above_must_be_writable() {
    let folder = orchard();
    fs::write(folder.path().join("out"), "a file").expect("written");
    let run = build(folder.path(), &[]);
    assert_eq!(run.code, 1);
    assert!(run.stderr.contains("US903"));
    let run = uspan(folder.path(), &["build", "orchard.span.toml", "-o", "/proc/nowhere/out"]);
    assert_eq!(run.code, 3, "{}", run.stderr);
    assert_eq!(fs::read_to_string(folder.path().join("out")).expect("there"), "a file");
}

#[test]
fn exit_codes_tell_findings_usage_and_the_world_apart() {
    let folder = orchard();
    assert_eq!(uspan(folder.path(), &["check", "orchard.span.toml"]).code, 0);
    assert_eq!(uspan(folder.path(), &["check", "nowhere.span.toml"]).code, 3);
    assert_eq!(uspan(folder.path(), &["check"]).code, 2);
    assert_eq!(uspan(folder.path(), &["bake"]).code, 2);
    assert_eq!(uspan(folder.path(), &["explain", "US999"]).code, 2);
    fs::remove_file(folder.path().join("secrets/harvest.key")).expect("removed");
    assert_eq!(uspan(folder.path(), &["check", "orchard.span.toml"]).code, 1);
}

#[test]
fn a_finding_is_drawn_under_its_line() {
    let folder = orchard();
    let path = folder.path().join("orchard.span.toml");
    let text = fs::read_to_string(&path).expect("read").replace("10.73.16.0/20", "10.73.16.1/20");
    fs::write(&path, text).expect("written");
    let run = uspan(folder.path(), &["check", "orchard.span.toml"]);
    insta::assert_snapshot!(run.stderr);
    insta::assert_snapshot!(run.stdout);
}

#[test]
fn secret_makes_a_private_file_once() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("keys/a.key");
    let run = uspan(folder.path(), &["secret", "keys/a.key"]);
    assert_eq!((run.code, mode(&path)), (0, 0o600));
    assert_eq!(mode(path.parent().expect("a folder")), 0o700);
    let first = fs::read_to_string(&path).expect("read");
    assert!(first.trim_end().len() == 43 && !run.all().contains(first.trim_end()));
    assert_eq!(uspan(folder.path(), &["secret", "keys/a.key"]).code, 2, "never overwritten silently");
    assert_eq!(fs::read_to_string(&path).expect("read"), first);
    let shown = uspan(folder.path(), &["secret", "keys/a.key", "--replace", "--print"]);
    assert_eq!(shown.stdout, fs::read_to_string(&path).expect("read"));
    assert_ne!(shown.stdout, first);
    assert_eq!(files(folder.path()).len(), 1, "no temporary file stays");
}

#[test]
fn new_writes_a_starter_that_only_lacks_its_secret() {
    let folder = tempfile::tempdir().expect("a folder");
    assert_eq!(uspan(folder.path(), &["new", "a.span.toml"]).code, 0);
    assert_eq!(uspan(folder.path(), &["new", "a.span.toml"]).code, 2, "never overwritten");
    let json = uspan(folder.path(), &["check", "a.span.toml", "--format", "json"]).json();
    let codes: Vec<_> = json["findings"].as_array().expect("a list").iter().map(|f| f["code"].clone()).collect();
    assert_eq!(codes, ["US511"]);
    uspan(folder.path(), &["secret", "secrets/harvest.key"]);
    assert_eq!(uspan(folder.path(), &["build", "a.span.toml", "-o", "out"]).code, 0);
    // The choices that are commented out are legal too.
    let text = fs::read_to_string(folder.path().join("a.span.toml")).expect("read");
    let (head, tail) = text.split_once("# Everything below").expect("the comment");
    let head = head.replace("strength = \"strong\"", "");
    let choices: String = tail.lines().skip(1).map(|line| format!("{}\n", line.trim_start_matches("# "))).collect();
    fs::write(folder.path().join("b.span.toml"), head + &choices).expect("written");
    let run = uspan(folder.path(), &["build", "b.span.toml", "-o", "b"]);
    assert_eq!(run.code, 0, "{}", run.stderr);
}

#[test]
fn tables_are_data_too_and_fit_eighty_columns() {
    let folder = tempfile::tempdir().expect("a folder");
    for args in [&["platforms"][..], &["algorithms"], &["algorithms", "strength"], &["explain"], &["explain", "US203"]] {
        let run = uspan(folder.path(), args);
        assert_eq!(run.code, 0);
        let widest = run.stdout.lines().map(|line| line.chars().count()).max().unwrap_or(0);
        assert!(widest <= 80, "{args:?}: {widest}");
        assert!(!run.stdout.contains('\u{1b}'), "no colour into a pipe");
        let json = uspan(folder.path(), &[args, &["--format", "json"]].concat()).json();
        assert!(matches!(json, Value::Array(ref list) if !list.is_empty()) || json.is_object());
    }
}

#[test]
fn every_command_has_help_with_an_example() {
    let folder = tempfile::tempdir().expect("a folder");
    for command in ["new", "check", "build", "secret", "platforms", "algorithms", "explain", "schema", "demo", "completions"] {
        let run = uspan(folder.path(), &[command, "--help"]);
        assert_eq!(run.code, 0);
        assert!(run.stdout.contains(&format!("uspan {command}")) && run.stdout.contains("Example"), "{command}");
    }
}

#[test]
fn a_closed_pipe_is_no_error() {
    let folder = tempfile::tempdir().expect("a folder");
    let program = env!("CARGO_BIN_EXE_uspan");
    let run = std::process::Command::new("sh")
        .args(["-c", &format!("{program} explain --format json | head -n 1")])
        .current_dir(folder.path())
        .output()
        .expect("runs");
    assert_eq!(String::from_utf8_lossy(&run.stderr), "");
}

#[test]
fn retire_writes_a_script_for_each_gateway_and_keeps_off_a_build() {
    let folder = orchard();
    build(folder.path(), &[]);
    let retire = |tunnel: &str, output: &str| uspan(folder.path(), &["retire", "orchard.span.toml", "--tunnel", tunnel, "-o", output]);
    let run = retire("harvest", "retire");
    assert_eq!(run.code, 0, "{}", run.stderr);
    // What a build wrote goes, file by file; what else the gateway has is not named.
    for site in ["packhouse", "coldstore"] {
        let path = format!("retire/{site}/retire-harvest.sh");
        assert!(run.stdout.contains(&path), "{}", run.stdout);
        let script = fs::read_to_string(folder.path().join(path)).expect("written");
        assert!(!script.contains(SECRET));
        for file in files(&folder.path().join("out").join(site).join("etc")) {
            let installed = file.strip_prefix(folder.path().join("out").join(site)).expect("below");
            let installed = format!("/{}", installed.display());
            assert!(script.contains(&installed), "{site}: {installed} stays\n{script}");
        }
        let mut checked = std::process::Command::new("sh");
        checked.arg("-n").arg(folder.path().join(format!("retire/{site}/retire-harvest.sh")));
        assert!(checked.status().expect("runs").success(), "a script that a shell can read");
    }
    for (tunnel, output, says) in [("pressing", "retire", "there are: harvest"), ("harvest", "out", "another folder")] {
        let run = retire(tunnel, output);
        assert_eq!(run.code, 2);
        assert!(run.stderr.contains(says), "{}", run.stderr);
    }
    assert_eq!(build(folder.path(), &[]).code, 0, "the build stands as it was");
}

#[test]
fn an_assigned_address_is_given_by_argument_or_by_a_file() {
    let folder = orchard();
    let path = folder.path().join("orchard.span.toml");
    let text = fs::read_to_string(&path).expect("read");
    assert!(text.contains("address = \"198.51.100.20\""));
    fs::write(&path, text.replace("address = \"198.51.100.20\"", "address = \"assigned\"")).expect("written");
    let run = build(folder.path(), &["--format", "json"]);
    assert_eq!((run.code, run.json()["findings"][0]["code"].as_str()), (1, Some("US223")), "{}", run.stdout);
    assert_eq!(build(folder.path(), &["--given", "packhouse.address=198.51.100.20"]).code, 0);
    let peer = folder.path().join("out/coldstore/etc/ipsec.d/harvest.conf");
    assert!(fs::read_to_string(&peer).expect("written").contains("right=198.51.100.20"));
    // The same from a file changes nothing.
    write(&folder.path().join("facts.toml"), "[packhouse]\naddress = \"198.51.100.20\"\n", 0o644);
    let run = build(folder.path(), &["--given-from", "facts.toml", "--format", "json"]);
    assert!(run.json()["files"].as_array().expect("a list").iter().all(|file| file["change"] == "same"));
    write(&folder.path().join("facts.toml"), "[packhouse]\naddress = \"198.51.100\"\n", 0o644);
    let run = build(folder.path(), &["--given-from", "facts.toml"]);
    assert_eq!(run.code, 1);
    assert!(run.stderr.contains("facts.toml:2:11") && run.stderr.contains("US201"), "{}", run.stderr);
    assert_eq!(build(folder.path(), &["--given", "packhouse=198.51.100.20"]).code, 2);
}

#[test]
fn a_build_over_an_earlier_one_says_what_changes_and_when_it_takes_effect() {
    let folder = orchard();
    build(folder.path(), &[]);
    let path = folder.path().join("orchard.span.toml");
    let before = fs::read(folder.path().join("out/packhouse/etc/swanctl/conf.d/harvest.conf")).expect("read");
    let text = fs::read_to_string(&path).expect("read");
    fs::write(&path, text.replace("strength = \"strong\"", "strength = \"common\"\nesp-lifetime = \"2h\"")).expect("written");
    let run = build(folder.path(), &["--preview", "--format", "json"]);
    assert_eq!(run.code, 0, "{}", run.stderr);
    let json = run.json();
    let told = |site: &str, about: &str| -> (String, String, String, bool) {
        let list = json["changes"].as_array().expect("a list");
        let change = list.iter().find(|change| change["site"] == site && change["about"] == about).unwrap_or_else(|| panic!("{list:#?}"));
        let text = |key: &str| change[key].as_str().expect("text").to_owned();
        (text("before"), text("now"), text("effect"), change["both_ends"] == true)
    };
    let (was, is, effect, both) = told("packhouse", "lifetime of ESP");
    // Here it opens the tunnel, and closes it when it is told of another value.
    assert_eq!((was.as_str(), is.as_str(), both), ("1h", "2h", false));
    assert!(effect.starts_with("interrupts"), "{effect}");
    let (was, is, effect, both) = told("coldstore", "IKE proposals");
    assert!(was.contains("ecp-384") && is.contains("modp-2048") && effect.starts_with("interrupts") && both, "{was} {is} {effect}");
    assert_eq!(fs::read(folder.path().join("out/packhouse/etc/swanctl/conf.d/harvest.conf")).expect("read"), before, "nothing was written");
    let drawn = build(folder.path(), &[]);
    assert!(drawn.stdout.contains("What changes") && drawn.stdout.contains("Both ends together: "), "{}", drawn.stdout);
    assert!(!build(folder.path(), &[]).stdout.contains("What changes"), "then nothing is left to change");
    // Another secret is told of, and not shown.
    write(&folder.path().join("secrets/harvest.key"), "Zr4uY8wQe1TnM5pVb9XcF2kDhG7jLsO0aPiEyNtC6vB\n", 0o600);
    let run = build(folder.path(), &["--format", "json"]);
    assert!(run.json()["changes"].to_string().contains("shared secret") && !run.all().contains("Zr4uY8"), "{}", run.stdout);
}

/// The demo with gateways that sign; `SITE` stands for each site's name in its `keys`.
fn signing(authentication: &str, keys: &str) -> String {
    let text = include_str!("../../core/demo/orchard.span.toml");
    let text = text.replace("secret   = { file = \"secrets/harvest.key\" }", &format!("authentication = \"{authentication}\""));
    ["packhouse", "coldstore"].iter().fold(text, |text, site| {
        let head = format!("[site.{site}]");
        text.replace(&head, &format!("{head}\nkeys = {{ {} }}", keys.replace("SITE", site)))
    })
}

#[test]
fn a_pair_of_keys_goes_to_its_gateway_and_its_public_part_to_the_peer() {
    let folder = orchard();
    write_keys(folder.path());
    assert_eq!((mode(&folder.path().join("keys/packhouse.key")), mode(&folder.path().join("keys/packhouse.pub"))), (0o600, 0o644));
    assert_eq!(uspan(folder.path(), &["secret", "keys/packhouse.key", "--pair"]).code, 2, "a pair that is there stays");
    let text = signing("public-keys", "public = \"keys/SITE.pub\", private = \"keys/SITE.key\"").replace("\"libreswan\"", "\"openiked\"");
    fs::write(folder.path().join("orchard.span.toml"), text).expect("written");
    let run = build(folder.path(), &[]);
    assert_eq!(run.code, 0, "{}", run.all());
    let out = folder.path().join("out");
    let read = |path: &str| fs::read_to_string(out.join(path)).unwrap_or_else(|e| panic!("{path}: {e}"));
    let own = |file: &str| fs::read_to_string(folder.path().join("keys").join(file)).expect("read");
    assert_eq!(read("packhouse/etc/swanctl/private/uspan-harvest-local.pem"), own("packhouse.key"));
    assert_eq!(read("packhouse/etc/swanctl/pubkey/uspan-harvest-remote.pem"), own("coldstore.pub"));
    assert_eq!(read("coldstore/etc/iked/private/local.key"), own("coldstore.key"));
    assert_eq!(read("coldstore/etc/iked/pubkeys/fqdn/packhouse.example.net"), own("packhouse.pub"));
    assert_eq!(mode(&out.join("packhouse/etc/swanctl/private/uspan-harvest-local.pem")), 0o600);
    // A private key is on its own gateway and nowhere else.
    for (site, other) in [("packhouse", "coldstore"), ("coldstore", "packhouse")] {
        let line = own(&format!("{site}.key")).lines().nth(1).expect("a line").to_owned();
        assert!(files(&out.join(other)).iter().all(|file| !fs::read_to_string(file).expect("text").contains(&line)));
        assert!(!run.all().contains(&line));
    }
}

#[test]
fn certificates_for_the_lab_are_made_once_and_never_built() {
    let folder = orchard();
    let keys = "certificate = \"c/SITE.crt\", issuer = \"c/ca.crt\", private = \"c/SITE.key\"";
    fs::write(folder.path().join("orchard.span.toml"), signing("certificates", keys)).expect("written");
    let make = |more: &[&str]| uspan(folder.path(), &[&["secret", "orchard.span.toml", "--for-lab"], more].concat());
    assert_eq!(make(&[]).code, 0);
    let names: Vec<_> =
        files(&folder.path().join("c")).iter().map(|file| (file.file_name().expect("a name").to_owned(), mode(file))).collect();
    let wanted =
        [("ca.crt", 0o644), ("coldstore.crt", 0o644), ("coldstore.key", 0o600), ("packhouse.crt", 0o644), ("packhouse.key", 0o600)];
    assert_eq!(names, wanted.map(|(name, mode)| (name.into(), mode)), "the authority's key is nowhere");
    let before = fs::read(folder.path().join("c/ca.crt")).expect("read");
    assert_eq!(make(&[]).code, 2, "what is there stays");
    assert_eq!(fs::read(folder.path().join("c/ca.crt")).expect("read"), before);
    assert_eq!(make(&["--replace"]).code, 0);
    let run = build(folder.path(), &["--format", "json"]);
    let codes: Vec<_> = run.json()["findings"].as_array().expect("a list").iter().map(|f| f["code"].clone()).collect();
    assert_eq!((run.code, codes), (1, vec!["US535".into(), "US535".into()]), "{}", run.all());
    assert!(!folder.path().join("out").exists());
    // Private keys are in no output.
    let key = fs::read_to_string(folder.path().join("c/coldstore.key")).expect("read");
    assert!(!run.all().contains(key.lines().nth(1).expect("a line")));
}

#[test]
fn a_certificate_goes_to_its_gateway_and_its_authority_to_the_peer() {
    let folder = orchard();
    write_keys(folder.path());
    let keys = "certificate = \"keys/SITE.crt\", issuer = \"keys/ca.crt\", private = \"keys/SITE.key\"";
    fs::write(folder.path().join("orchard.span.toml"), signing("certificates", keys)).expect("written");
    let run = build(folder.path(), &[]);
    assert_eq!(run.code, 0, "{}", run.all());
    let out = folder.path().join("out");
    let read = |path: &str| fs::read_to_string(out.join(path)).unwrap_or_else(|e| panic!("{path}: {e}"));
    let own = |file: &str| fs::read_to_string(folder.path().join("keys").join(file)).expect("read").replace("\r\n", "\n");
    assert_eq!(read("packhouse/etc/swanctl/x509/uspan-harvest-local.pem"), own("packhouse.crt"));
    assert_eq!(read("packhouse/etc/swanctl/x509ca/uspan-harvest-remote.pem"), own("ca.crt"));
    assert_eq!(read("coldstore/etc/ipsec.d/uspan-own.crt"), own("coldstore.crt"));
    assert_eq!(read("coldstore/etc/ipsec.d/uspan-own.key"), own("coldstore.key"));
    assert_eq!(
        (mode(&out.join("coldstore/etc/ipsec.d/uspan-own.key")), mode(&out.join("coldstore/etc/ipsec.d/uspan-own.crt"))),
        (0o600, 0o644)
    );
    // What fills the database is planned, and what clears it is in the script that takes the tunnel out.
    let planned = build(folder.path(), &["--format", "json"]).json()["plan"].to_string();
    assert!(planned.contains("coldstore"), "{planned}");
    assert!(read("coldstore/take-up.sh").contains("pk12util -i"));
    let retired = uspan(folder.path(), &["retire", "orchard.span.toml", "--tunnel", "harvest", "-o", "gone"]);
    assert_eq!(retired.code, 0, "{}", retired.all());
    let scripts: String = files(&folder.path().join("gone")).iter().map(|file| fs::read_to_string(file).expect("text")).collect();
    assert!(scripts.contains("certutil -F -n uspan-own") && scripts.contains("rm -f /etc/ipsec.d/uspan-own.key"), "{scripts}");
}
