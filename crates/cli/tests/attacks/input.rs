//! What the program reads, and what names it meets.

use std::fs;
use std::os::unix::fs::symlink;
use std::path::Path;
use std::process::{Command, Stdio};

use rustix::fs::{CWD, FileType, Mode, mknodat};

use crate::PROGRAM;
use crate::common::{Run, orchard, uspan, write};

/// Runs it with a limit of memory and of processor time that no such run comes near.
fn bounded(folder: &Path, args: &[&str]) -> Run {
    let words: Vec<String> = args.iter().map(|arg| format!("'{}'", arg.replace('\'', r"'\''"))).collect();
    let script = format!("ulimit -v 4000000 -t 60; exec {PROGRAM} {}", words.join(" "));
    let output = Command::new("bash").args(["-c", &script]).current_dir(folder).stdin(Stdio::null()).output().expect("it runs");
    let text = |bytes: Vec<u8>| String::from_utf8_lossy(&bytes).into_owned();
    let (stdout, stderr) = (text(output.stdout), text(output.stderr));
    let code = output.status.code().unwrap_or_else(|| panic!("{args:?} was ended by a signal: {stderr}"));
    Run { code, stdout, stderr }
}

fn fifo(path: &Path) {
    fs::create_dir_all(path.parent().expect("a folder")).expect("made");
    let _ = fs::remove_file(path);
    mknodat(CWD, path, FileType::Fifo, Mode::from_raw_mode(0o644), 0).expect("a pipe");
}

fn device(path: &Path) {
    fs::create_dir_all(path.parent().expect("a folder")).expect("made");
    let _ = fs::remove_file(path);
    symlink("/dev/zero", path).expect("a link");
}

/// A pipe that nobody writes to, and a device without an end, wherever a file is named.
#[test]
fn pipes_and_devices_neither_hold_up_a_run_nor_fill_the_memory() {
    let inventory = "inventory = { branches = { file = \"sites.csv\", platform = \"strongswan\" } }\n";
    for odd in [fifo as fn(&Path), device] {
        let folder = orchard();
        let path = folder.path();
        assert_eq!(uspan(path, &["build", "orchard.span.toml", "-o", "out"]).code, 0);
        assert_eq!(uspan(path, &["sheet", "orchard.span.toml", "--partner", "coldstore", "--format", "markdown", "-o", "s.md"]).code, 0);
        let text = fs::read_to_string(path.join("orchard.span.toml")).expect("read");
        write(&path.join("fleet.span.toml"), text.replacen("unified-span = 1\n", &format!("unified-span = 1\n{inventory}"), 1), 0o644);
        for name in ["odd", "sites.csv", "odd-secret"] {
            odd(&path.join(name));
        }
        write(&path.join("keyed.span.toml"), text.replace("secrets/harvest.key", "odd-secret"), 0o644);
        let cases: [&[&str]; 12] = [
            &["check", "odd"],
            &["check", "keyed.span.toml"],
            &["check", "fleet.span.toml"],
            &["check", "orchard.span.toml", "--given-from", "odd"],
            &["sheet", "orchard.span.toml", "--partner", "coldstore", "--fill", "odd"],
            &["compare", "odd", "out/coldstore"],
            &["rehearse", "odd"],
            &["rehearse", "out/packhouse", "odd"],
            &["build", "odd", "-o", "other"],
            &["draw", "odd", "-o", "x.svg"],
            &["verify-steps", "odd"],
            &["move", "odd", "--site", "packhouse", "--to", "libreswan"],
        ];
        for args in cases {
            let run = bounded(path, args);
            assert!((1..=3).contains(&run.code), "{args:?}: {} {}", run.code, run.all());
        }
        // The manifest, files of an output, files of a tree.
        fs::create_dir(path.join("earlier")).expect("made");
        odd(&path.join("earlier/uspan-manifest.json"));
        for args in
            [&["check", "orchard.span.toml", "--changed-since", "earlier"][..], &["rehearse", "orchard.span.toml", "--built", "out"]]
        {
            odd(&path.join("out/packhouse/etc/swanctl/conf.d/harvest.conf"));
            let run = bounded(path, args);
            assert!((0..=3).contains(&run.code), "{args:?}: {} {}", run.code, run.all());
        }
        for args in [
            &["build", "orchard.span.toml", "-o", "out"][..],
            &["compare", "out/packhouse", "out/coldstore"],
            &["compare", "out/packhouse", "--against", "orchard.span.toml", "--site", "packhouse"],
            &["adopt", "out/packhouse", "out/coldstore", "-o", "a/a.span.toml"],
            &["walk", "out/packhouse", "out/coldstore", "--from", "10.41.0.9", "--to", "10.73.16.9"],
        ] {
            let run = bounded(path, args);
            assert!((0..=3).contains(&run.code), "{args:?}: {} {}", run.code, run.all());
        }
    }
}

/// Links that lead to themselves, or out of the tree.
#[test]
fn links_are_followed_within_a_tree_and_never_out_of_it() {
    let folder = orchard();
    let path = folder.path();
    assert_eq!(uspan(path, &["build", "orchard.span.toml", "-o", "out"]).code, 0);
    write(&path.join("own/notes.conf"), "conn own\n\tleft=192.0.2.77\n\ttoken deadbeefTOKEN\n", 0o600);
    write(&path.join("own/mine.conf"), "secrets { ike-mine { id-1 = 203.0.113.77\n secret = \"myOwnSecretOfAnotherTunnel\" } }\n", 0o600);
    let absolute = |name: &str| path.join("own").join(name);
    let (strongswan, libreswan) = (path.join("out/packhouse/etc/swanctl"), path.join("out/coldstore/etc/ipsec.d"));
    symlink(absolute("notes.conf"), libreswan.join("x.conf")).expect("a link");
    symlink("../../../../own/notes.conf", libreswan.join("y.conf")).expect("a link");
    symlink(absolute("mine.conf"), strongswan.join("conf.d/z.conf")).expect("a link");
    symlink("/proc/self/environ", strongswan.join("conf.d/p.conf")).expect("a link");
    for i in 0..12 {
        symlink(".", strongswan.join(format!("loop{i}"))).expect("a link");
    }
    // One that is good where the tree is the gateway's `/`.
    write(
        &path.join("out/coldstore/etc/ipsec.d/kept/more.conf"),
        "conn more\n\tleft=203.0.113.77\n\tright=192.0.2.9\n\tauthby=secret\n\tleftsubnet=10.73.16.0/20\n\trightsubnet=10.88.0.0/16\n",
        0o644,
    );
    symlink("/etc/ipsec.d/kept/more.conf", libreswan.join("more.conf")).expect("a link");
    for args in [
        &["compare", "out/packhouse", "out/coldstore"][..],
        &["compare", "out/packhouse", "out/coldstore", "--format", "json"],
        &["adopt", "out/packhouse", "out/coldstore", "-o", "ad/a.span.toml"],
        &["rehearse", "out/packhouse", "out/coldstore"],
        &["walk", "out/packhouse", "out/coldstore", "--from", "10.41.0.9", "--to", "10.73.16.9"],
    ] {
        let run = bounded(path, args);
        assert!(run.code <= 1, "{args:?}: {} {}", run.code, run.all());
        for secret in ["deadbeefTOKEN", "myOwnSecret", "192.0.2.77"] {
            assert!(!run.all().contains(secret), "{args:?}: {}", run.all());
        }
        assert!(args.contains(&"walk") || args.contains(&"json") || run.stderr.contains("is not in this tree"), "{args:?}: {}", run.stderr);
    }
    for file in crate::common::files(&path.join("ad")) {
        let text = fs::read_to_string(&file).expect("read");
        assert!(!text.contains("myOwnSecret") && !text.contains("deadbeef"), "{}", file.display());
    }
    let run = uspan(path, &["compare", "out/packhouse", "out/coldstore"]);
    assert!(run.stderr.contains("`more`") || run.all().contains("more"), "a link within the tree is followed: {}", run.all());
}

/// Characters that steer a terminal: in names of files and folders, and in what they hold.
#[test]
fn nothing_that_is_read_steers_a_terminal() {
    let odd = [
        "\u{1b}]0;pwn\u{7}",
        "\u{1b}[2Jx",
        "a\rb",
        "\u{9b}31m",
        "\u{202e}txt.exe",
        "\u{2066}x",
        "new\nline",
        "\u{feff}x",
        "\u{85}",
        "\u{1b}[31mred",
    ];
    for name in odd {
        let folder = orchard();
        let path = folder.path();
        assert_eq!(uspan(path, &["build", "orchard.span.toml", "-o", "out"]).code, 0);
        let [gateway, file] = [format!("gw{name}"), format!("f{name}.conf")];
        fs::rename(path.join("out/packhouse"), path.join(&gateway)).expect("renamed");
        write(
            &path.join(&gateway).join("etc/swanctl/conf.d").join(&file),
            format!("connections {{\n x{name} {{\n remote_addrs = {name}\n odd = {name}\n"),
            0o644,
        );
        symlink(format!("/nowhere{name}"), path.join(&gateway).join("etc/swanctl/conf.d/l.conf")).expect("a link");
        let toml = fs::read_to_string(path.join("orchard.span.toml")).expect("read");
        let plain = name.replace(['\n', '\r', '\u{1b}', '\u{7}'], "");
        write(
            &path.join(format!("d{name}.span.toml")),
            format!("# {plain}\n{toml}\n[site.\"{plain}\"]\nplatform = \"{plain}\"\nnote = \"{plain}\"\n"),
            0o644,
        );
        let description = format!("d{name}.span.toml");
        for args in [
            &["compare", &gateway, "out/coldstore"][..],
            &["compare", &gateway, "out/coldstore", "--format", "json"],
            &["rehearse", &gateway, "out/coldstore"],
            &["rehearse", &gateway, "out/coldstore", "--svg", "ladder.svg"],
            &["walk", &gateway, "out/coldstore", "--from", "10.41.0.9", "--to", "10.73.16.9"],
            &["adopt", &gateway, "out/coldstore", "-o", "ad.span.toml", "--replace"],
            &["check", &description],
            &["check", &description, "--format", "json"],
            &["build", &description, "-o", &gateway],
            &["check", "orchard.span.toml", "--given", &format!("x{name}=1")],
            &["explain", name],
            &["secret", &gateway],
        ] {
            let run = uspan(path, args);
            let steers =
                run.all().chars().find(|c| (c.is_control() && *c != '\n' && *c != '\t') || "\u{202e}\u{2066}\u{feff}\u{2028}".contains(*c));
            assert_eq!(steers, None, "{args:?}: {:?}", run.all());
            assert!(run.code != 101, "{args:?}");
        }
        // What was taken over is a description, with two sites and a tunnel, and a picture is a picture.
        let adopted = fs::read_to_string(path.join("ad.span.toml")).expect("a description");
        let table: toml_edit::DocumentMut = adopted.parse().unwrap_or_else(|error| panic!("{error}: {adopted}"));
        assert_eq!(table["tunnel"].as_table().map(toml_edit::Table::len), Some(1), "{adopted}");
        assert_eq!(table["site"].as_table().map(toml_edit::Table::len), Some(2), "{adopted}");
        if let Ok(svg) = fs::read_to_string(path.join("ladder.svg")) {
            assert!(roxmltree::Document::parse(&svg).is_ok(), "{name:?}");
        }
    }
}

/// Names that are no names: a folder whose name has no letter, or holds a table of a description.
#[test]
fn a_folder_s_name_writes_nothing_into_an_adopted_description() {
    for name in ["gw\n[tunnel.evil]\nbetween = [\"a\", \"b\"]\n", "<", "?", "_", "7", "-", "\"", "x".repeat(200).as_str(), "GW", "gw."] {
        let folder = orchard();
        let path = folder.path();
        assert_eq!(uspan(path, &["build", "orchard.span.toml", "-o", "out"]).code, 0);
        fs::rename(path.join("out/packhouse"), path.join(name)).expect("renamed");
        let run = uspan(path, &["adopt", "--", name, "out/coldstore"]);
        assert_eq!(run.code, 2, "without an output: {}", run.all());
        let run = uspan(path, &["adopt", "-o", "ad/a.span.toml", "--", name, "out/coldstore"]);
        assert!(run.code <= 1, "{name:?}: {}", run.all());
        let text = fs::read_to_string(path.join("ad/a.span.toml")).expect("a description");
        let table: toml_edit::DocumentMut = text.parse().unwrap_or_else(|error| panic!("{name:?}: {error}\n{text}"));
        let tunnels: Vec<_> = table["tunnel"].as_table().expect("tunnels").iter().map(|(name, _)| name.to_owned()).collect();
        assert_eq!(tunnels, ["harvest"], "{name:?}: {text}");
        let json = uspan(path, &["check", "ad/a.span.toml", "--format", "json"]).json();
        let broken: Vec<_> =
            json["findings"].as_array().expect("a list").iter().filter(|f| f["code"].as_str().is_some_and(|code| code < "US200")).collect();
        assert!(broken.is_empty(), "{name:?}: {broken:?}");
    }
}

/// What is no name of a host, and no name of an interface, is refused where it comes in.
#[test]
fn addresses_and_interfaces_that_a_command_would_take_for_an_option_are_refused() {
    let folder = orchard();
    let path = folder.path().join("orchard.span.toml");
    let text = fs::read_to_string(&path).expect("read");
    let long = "a".repeat(5000);
    for (old, new) in [
        ("203.0.113.77", "-rf"),
        ("203.0.113.77", "--help"),
        ("203.0.113.77", "-o"),
        ("203.0.113.77", "-"),
        ("203.0.113.77", long.as_str()),
        ("203.0.113.77", "a..b"),
        ("203.0.113.77", "gw-.example.net"),
        ("\"eth0\"", "\"-x\""),
        ("\"eth0\"", "\"--version\""),
        ("\"eth1\"", "\".hidden\""),
        ("\"eth1\"", "\"@x\""),
    ] {
        assert!(text.contains(old), "{old}");
        fs::write(&path, text.replace(old, new)).expect("written");
        let run = uspan(folder.path(), &["check", "orchard.span.toml"]);
        assert_eq!(run.code, 1, "{new}: {}", run.all());
        assert!(run.stderr.contains("US201") || run.stderr.contains("US204"), "{new}: {}", run.stderr);
    }
}
