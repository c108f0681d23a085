//! The JSON Schema and the reference page of the language follow from its table; what commands print as JSON has the shape that they
//! publish.

#![allow(clippy::disallowed_methods, clippy::disallowed_macros, reason = "tests have files of their own")]

mod common;

use std::fs;
use std::path::Path;

use serde_json::Value;

fn as_json(text: &str) -> Value {
    fn value(node: &toml::de::DeValue<'_>) -> Value {
        use toml::de::DeValue;
        match node {
            DeValue::String(text) => text.as_ref().into(),
            DeValue::Integer(number) => number.as_str().parse::<i64>().expect("a number").into(),
            DeValue::Boolean(flag) => (*flag).into(),
            DeValue::Array(items) => items.iter().map(|item| value(item.get_ref())).collect(),
            DeValue::Table(table) => {
                table.iter().map(|(k, v)| (k.get_ref().to_string(), value(v.get_ref()))).collect::<serde_json::Map<_, _>>().into()
            }
            DeValue::Float(_) | DeValue::Datetime(_) => panic!("not in the language"),
        }
    }
    let table = toml::de::DeTable::parse(text).expect("TOML");
    table.get_ref().iter().map(|(k, v)| (k.get_ref().to_string(), value(v.get_ref()))).collect::<serde_json::Map<_, _>>().into()
}

/// The schema of the language, as the program prints it.
fn language() -> jsonschema::Validator {
    jsonschema::validator_for(&common::uspan(Path::new("."), &["schema"]).json()).expect("a schema")
}

#[test]
fn editors_accept_the_demo_and_the_starter() {
    let validator = language();
    for text in [include_str!("../../core/demo/orchard.span.toml"), include_str!("../assets/starter.span.toml")] {
        let errors: Vec<_> = validator.iter_errors(&as_json(text)).map(|e| e.to_string()).collect();
        assert!(errors.is_empty(), "{errors:?}");
    }
}

#[test]
fn editors_refuse_what_the_decoder_refuses() {
    let validator = language();
    let demo = include_str!("../../core/demo/orchard.span.toml");
    for (old, new) in [
        ("platform  ", "plattform "),
        ("\"strongswan\"", "7"),
        ("\"strong\"", "\"stronk\""),
        ("10.73.16.0/20", "racks"),
        ("unified-span = 1", ""),
    ] {
        let text = demo.replacen(old, new, 1);
        assert_ne!(text, demo, "{old}");
        assert!(!validator.is_valid(&as_json(&text)), "{new}");
    }
}

#[test]
fn the_reference_page_is_current() {
    // Make it with `uspan schema --reference > docs/reference/language.md`.
    assert_eq!(include_str!("../../../docs/reference/language.md"), uspan_core::language_reference(&uspan_core::Context::built_in()));
}

/// What the program says of a command's JSON.
fn schema_of(command: &str) -> jsonschema::Validator {
    let run = common::uspan(Path::new("."), &["schema", "--of", command]);
    assert_eq!(run.code, 0, "{command}: {}", run.stderr);
    jsonschema::validator_for(&run.json()).unwrap_or_else(|e| panic!("{command}: {e}"))
}

/// Runs a command with `--format json`, and holds what it prints against its schema.
fn held(folder: &Path, args: &[&str]) -> Value {
    let run = common::uspan(folder, &[args, &["--format", "json"]].concat());
    let told = run.json();
    let errors: Vec<_> = schema_of(args[0]).iter_errors(&told).map(|e| format!("{}: {e}", e.instance_path())).collect();
    assert!(errors.is_empty(), "{args:?}: {errors:#?}\n{told:#}");
    told
}

/// Changes a file.
fn edit(path: &Path, pairs: &[(&str, &str)]) {
    let mut text = fs::read_to_string(path).expect("read");
    for (old, new) in pairs {
        assert!(text.contains(old), "{old}");
        text = text.replace(old, new);
    }
    fs::write(path, text).expect("written");
}

#[test]
fn every_command_that_prints_json_has_a_schema() {
    let help = common::uspan(Path::new("."), &["--help"]).stdout;
    let commands = help.lines().filter_map(|line| line.strip_prefix("  ")?.split(' ').next().filter(|word| !word.is_empty()));
    let mut with_json = Vec::new();
    for command in commands.take_while(|word| *word != "help") {
        if common::uspan(Path::new("."), &[command, "--help"]).stdout.contains("- json:") {
            schema_of(command);
            with_json.push(command);
        }
    }
    assert!(with_json.len() >= 13, "{with_json:?}");
}

#[test]
fn what_commands_print_has_the_shape_that_is_published() {
    let folder = common::orchard();
    let (folder, file) = (folder.path(), "orchard.span.toml");
    for command in [&["explain"][..], &["explain", "US203"], &["algorithms"], &["algorithms", "strength"], &["platforms"]] {
        held(folder, command);
    }
    // What is sound, and what is not.
    fs::copy(folder.join(file), folder.join("broken.span.toml")).expect("copied");
    edit(&folder.join("broken.span.toml"), &[("platform  ", "plattform ")]);
    for file in [file, "broken.span.toml"] {
        let fine = file == "orchard.span.toml";
        let each: [&[&str]; 10] = [
            &["check", file],
            &["build", file, "-o", "out"],
            &["build", file, "-o", "out", "--preview"],
            &["rehearse", file],
            &["walk", file, "--from", "10.73.16.5", "--to", "10.41.0.9"],
            &["verify-steps", file],
            &["sheet", file],
            &["sheet", file, "--partner", "coldstore"],
            &["compare", "out", "--against", file],
            &["compare", "out/packhouse", "--against", file],
        ];
        for command in each {
            assert_eq!(held(folder, command)["fine"], fine, "{command:?}");
        }
        held(folder, &["retire", file, "--tunnel", "harvest", "-o", if fine { "gone" } else { "gone-2" }]);
        held(folder, &["move", file, "--site", "packhouse", "--to", "libreswan"]);
        held(folder, &["move", file, "--site", "packhouse", "--to", "openiked"]);
    }
    held(folder, &["check", file, "--changed-since", "out"]);
    held(folder, &["rehearse", file, "--changed-since", "out"]);
    // A form of a partner, filled in.
    let form = common::uspan(folder, &["sheet", file, "--partner", "coldstore", "--format", "markdown"]).stdout;
    let form = form.replace("| 10.73.16.0/20 |  |", "| 10.73.16.0/20 | 10.73.32.0 255.255.240.0 |");
    fs::write(folder.join("form.md"), form).expect("written");
    assert_eq!(held(folder, &["sheet", file, "--partner", "coldstore", "--fill", "form.md"])["changed"][0]["after"], "10.73.32.0/20");
    // A change, and two ends that disagree.
    edit(&folder.join(file), &[("10.73.16.0/20", "10.73.32.0/20")]);
    assert!(!held(folder, &["build", file, "-o", "out", "--preview"])["changes"].as_array().expect("a list").is_empty());
    assert_eq!(held(folder, &["compare", "out", "--against", file])["fine"], false);
    let swanctl = folder.join("out/packhouse/etc/swanctl/conf.d/harvest.conf");
    edit(&swanctl, &[("aes256", "aes128")]);
    edit(&swanctl, &[("connections {", "nonsense = 7\nconnections {")]);
    for command in ["compare", "rehearse"] {
        assert_eq!(held(folder, &[command, "out/packhouse", "out/coldstore"])["fine"], false, "{command}");
    }
    held(folder, &["rehearse", file, "--built", "out"]);
    held(folder, &["walk", "out/packhouse", "out/coldstore", "--from", "10.41.0.9", "--to", "10.73.16.5"]);
    held(folder, &["adopt", "out/packhouse", "out/coldstore", "-o", "taken/orchard.span.toml"]);
}

/// A press, and orchards that have a tunnel with it.
fn star(folder: &Path, orchards: usize) {
    let site = |name: &str, platform: &str, number: usize| {
        format!(
            "[site.{name}]\nplatform = \"{platform}\"\ngateway = {{ address = \"2001:db8::{number:x}\", outside = \"wan0\", inside = \
             \"lan0\" }}\nnetworks = {{ all = \"fd41:0:0:{number:x}::/64\" }}\n"
        )
    };
    let mut text = format!("unified-span = 1\n{}", site("press", "strongswan", 1));
    for number in 0..orchards {
        text += &site(&format!("orchard-{number}"), "libreswan", number + 2);
        text += &format!("[tunnel.juice-{number}]\nbetween = [\"press\", \"orchard-{number}\"]\nsecret = {{ file = \"{number}.key\" }}\n");
        common::write(&folder.join(format!("{number}.key")), format!("{}{number}\n", common::SECRET), 0o600);
    }
    fs::write(folder.join("star.span.toml"), text).expect("written");
}

#[test]
fn json_has_one_shape_whatever_the_number_of_tunnels() {
    let keys = |told: &Value| told.as_object().expect("an object").keys().cloned().collect::<std::collections::BTreeSet<_>>();
    let mut shapes: Vec<Vec<_>> = Vec::new();
    for count in [1, 7, 104] {
        let folder = tempfile::tempdir().expect("a folder");
        let folder = folder.path();
        star(folder, count);
        let told = [
            held(folder, &["check", "star.span.toml"]),
            held(folder, &["build", "star.span.toml", "-o", "out"]),
            held(folder, &["rehearse", "star.span.toml"]),
        ];
        assert_eq!(told[0]["tunnels"].as_array().map(Vec::len), Some(count));
        assert_eq!(told[2]["rehearsals"].as_array().map(Vec::len), Some(count));
        shapes.push(told.iter().map(keys).collect());
        // What changes is told of many as of few.
        edit(&folder.join("star.span.toml"), &[("fd41:0:0:2::/64", "fd41:0:0:fff::/64")]);
        let told = held(folder, &["build", "star.span.toml", "-o", "out", "--preview"]);
        let sites: Vec<_> = told["changes"].as_array().expect("a list").iter().map(|change| &change["site"]).collect();
        assert!(sites.contains(&&"press".into()) && sites.contains(&&"orchard-0".into()), "{count}: {sites:?}");
        assert!(sites.iter().all(|site| **site == "press" || **site == "orchard-0"), "{count}: {sites:?}");
    }
    assert!(shapes.windows(2).all(|pair| pair[0] == pair[1]), "{shapes:?}");
}

/// A warning about the description does not stop a rehearsal; it is told in JSON all the same.
#[test]
fn warnings_are_told_whatever_the_number_of_tunnels() {
    for count in [1, 7, 104] {
        let folder = tempfile::tempdir().expect("a folder");
        let folder = folder.path();
        star(folder, count);
        edit(&folder.join("star.span.toml"), &[("secret = { file = \"0.key\" }", "secret = { file = \"0.key\" }\nliveness = \"off\"")]);
        assert_eq!(common::uspan(folder, &["build", "star.span.toml", "-o", "out"]).code, 0);
        let mut commands = vec![vec!["check", "star.span.toml"], vec!["rehearse", "star.span.toml"]];
        commands.push(vec!["rehearse", "star.span.toml", "--built", "out"]);
        commands.push(vec!["compare", "out", "--against", "star.span.toml"]);
        commands.push(vec!["compare", "out/press", "--against", "star.span.toml"]);
        commands.push(vec!["walk", "star.span.toml", "--from", "fd41:0:0:2::10", "--to", "fd41:0:0:1::10"]);
        for command in commands {
            let told = held(folder, &command);
            let found = told["findings"].as_array().expect("a list").iter().any(|finding| finding["code"] == "US315");
            assert!(found && told["fine"] == true, "{count}, {command:?}: {}", told["findings"]);
        }
    }
}

/// Many tunnels are judged in JSON as for people, by what stands in the folder.
#[test]
fn a_gateway_whose_files_are_gone_or_wrong_is_never_fine() {
    let folder = tempfile::tempdir().expect("a folder");
    let folder = folder.path();
    star(folder, 104);
    assert_eq!(common::uspan(folder, &["build", "star.span.toml", "-o", "out"]).code, 0);
    let rehearsed = || {
        let told = held(folder, &["rehearse", "star.span.toml", "--built", "out"])["fine"].clone();
        (told, common::uspan(folder, &["rehearse", "star.span.toml", "--built", "out"]).code)
    };
    assert_eq!(rehearsed(), (true.into(), 0));
    let path = folder.join("out/orchard-7/etc/ipsec.d/juice-7.conf");
    let text = fs::read_to_string(&path).expect("read");
    // What the daemon makes of a value that is none nobody knows.
    edit(&path, &[("ikelifetime=28800s", "ikelifetime=often")]);
    assert_eq!(rehearsed(), (false.into(), 1));
    fs::write(&path, text).expect("written");
    assert_eq!(rehearsed(), (true.into(), 0));
    fs::remove_file(&path).expect("removed");
    assert_eq!(rehearsed(), (false.into(), 1));
}
