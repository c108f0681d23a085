//! What a daemon's own parser refuses is what is said to be refused here, and nothing else: each keyword of the rows, and words that
//! are none, with values of every kind.
//!
//! Needs the packages, which `uspan prove --prepare` installs.

#[path = "../../core/tests/common/known.rs"]
mod known;

use std::collections::BTreeSet;
use std::fmt::Write as _;
use std::process::Command;

use uspan_core::statement::{Codec, Says, Section, Statement};
use uspan_core::{Bearing, Tree, TreeFile};

/// Values of every kind, and what is none.
#[rustfmt::skip]
const VALUES: &[&str] = &[
    "yes", "no", "true", "false", "on", "off", "0", "1", "7", "auto", "force", "never", "always", "ifasked", "alwayssend", "sendifasked",
    "insist", "permit", "propose", "either", "secret", "rsasig", "rsa", "ecdsa", "null", "eaponly", "none", "tunnel", "transport",
    "passthrough", "drop", "reject", "start", "up", "add", "ondemand", "route", "keep", "ignore", "restart", "hold", "clear", "esp", "ah", "ike",
    "%any", "%same", "%forever", "100%", "3600", "1h", "30s", "10.9.0.0/16", "192.0.2.9", "gw.example.net", "nonsense", "accept", "issuer",
    "all", "file", "hardfail", "system",
];

fn package() -> std::path::PathBuf {
    uspan_lab::default_cache().join("libreswan")
}

/// Whether the parser of Libreswan takes a file: all of it.
fn addconn_takes(folder: &std::path::Path, text: &str) -> bool {
    let path = folder.join("ipsec.conf");
    std::fs::write(&path, text).expect("written");
    let ran = Command::new(package().join("usr/libexec/ipsec/addconn"))
        .env("LD_LIBRARY_PATH", package().join("usr/lib"))
        .arg("--config")
        .arg(&path)
        .arg("--checkconfig")
        .output()
        .expect("addconn runs");
    let said = [ran.stdout, ran.stderr].concat();
    let said = String::from_utf8_lossy(&said);
    !["cannot load config", "invalid value", "syntax error", "unexpected"].iter().any(|text| said.contains(text))
}

fn tried(row: &Statement) -> BTreeSet<String> {
    let mut all: BTreeSet<String> = VALUES.iter().map(|value| (*value).to_owned()).collect();
    match &row.says {
        Says::Field(_, Codec::Words(words)) => all.extend(words.iter().map(|(word, _)| word.to_string())),
        Says::Only(values, _) => all.extend(values.iter().map(std::string::ToString::to_string).filter(|value| !value.is_empty())),
        _ => {}
    }
    all
}

/// The one value that it has names a product: what stands there is unknown here, and never refused.
const UNSAID: &str = "remote-peer-type";

#[test]
#[ignore = "needs the packages of the daemons, which ./test installs"]
fn libreswan_refuses_what_is_said_to_be_refused() {
    let profile = known::platform("libreswan");
    let folder = tempfile::tempdir().expect("a folder");
    let mut wrong = String::new();
    let mut count = 0;
    let unknown = ["id", "cert", "subnet", "auth", "mobkie", "leftsubnt", "left_id", "dpd_delay", "rekey_time"];
    let rows = profile.statements.iter().filter(|row| !["also", "alsoflip", "left", "right", "authby"].contains(&&*row.keyword));
    let known: Vec<_> = rows.map(|row| (row.section, row.keyword.to_string(), tried(row))).collect();
    let strange = unknown.map(|word| (Section::Connection, word.to_owned(), BTreeSet::from(["yes".to_owned()])));
    for (section, keyword, values) in known.into_iter().chain(strange) {
        for value in values {
            let (setup, own) = match section {
                Section::Daemon => (format!("\t{keyword}={value}\n"), String::new()),
                _ => (String::new(), format!("\t{keyword}={value}\n")),
            };
            let v1 = if keyword == "ikev1-policy" { "" } else { "\tikev1-policy=accept\n" };
            let text = format!(
                "config setup\n{v1}{setup}\nconn a\n\tleft=192.0.2.1\n\tright=192.0.2.2\n\tauthby=secret\n{own}conn b\n\tleft=192.0.2.1\n\tright=192.0.2.3\n\tauthby=secret\n"
            );
            let mut tree = Tree::default();
            tree.add("etc/ipsec.conf", TreeFile::public(text.clone()));
            let (gateway, _) = known::read_as(profile, &tree);
            // What goes down with it is what the daemon says: the whole file.
            let other = gateway.connections.iter().find(|connection| connection.name == "b").expect("the other connection");
            let said = other.remainder.bearing(Bearing::Refused).is_none();
            let takes = addconn_takes(folder.path(), &text);
            count += 1;
            let unsaid = keyword == UNSAID && !takes && other.remainder.bearing(Bearing::Refused).is_none();
            if said != takes && !unsaid {
                let _ = writeln!(wrong, "{keyword}={value}: the daemon {}", if takes { "takes it" } else { "refuses the file" });
            }
        }
    }
    assert!(wrong.is_empty(), "of {count}:\n{wrong}");
    println!("{count} statements held against addconn");
}

fn starter() -> std::path::PathBuf {
    uspan_lab::default_cache().join("strongswan-starter/usr/lib/ipsec/starter")
}

/// What the parser of strongSwan's older form makes of a file: whether it takes it, and which connections it keeps.
fn starter_takes(folder: &std::path::Path, text: &str) -> (bool, String) {
    let path = folder.join("ipsec.conf");
    std::fs::write(&path, text).expect("written");
    let ran = Command::new(starter()).arg("--conf").arg(&path).arg("--conftest").output().expect("starter runs");
    let said = String::from_utf8_lossy(&[ran.stdout, ran.stderr].concat()).into_owned();
    (said.contains("config OK"), said)
}

#[test]
#[ignore = "needs the packages of the daemons, which ./test installs"]
fn the_starter_refuses_what_is_said_to_be_refused() {
    let profile = known::platform("strongswan-starter");
    let folder = tempfile::tempdir().expect("a folder");
    let (mut wrong, mut count) = (String::new(), 0);
    let strange = [
        "mobkie",
        "leftsubnt",
        "ikev2",
        "esn",
        "rekey_time",
        "cacert",
        "crluri1",
        "ldaphost",
        "keylife",
        "leftrsasigkey",
        "leftsubnetwithin",
    ];
    let rows = profile.statements.iter().map(|row| (row.section, row.keyword.to_string(), tried(row)));
    let beside = strange.map(|word| (Section::Connection, word.to_owned(), VALUES.iter().map(|value| (*value).to_owned()).collect()));
    let mut known: Vec<_> = rows.chain(beside).collect();
    // Each in the other section, too.
    let swapped: Vec<_> = known
        .iter()
        .map(|(section, keyword, _)| {
            let other = if *section == Section::Daemon { Section::Connection } else { Section::Daemon };
            (other, keyword.clone(), BTreeSet::from(["yes".to_owned()]))
        })
        .collect();
    known.extend(swapped);
    for (section, keyword, values) in known {
        for value in values {
            let line = format!("\t{keyword}={value}\n");
            let (setup, own) = if section == Section::Daemon { (line, String::new()) } else { (String::new(), line) };
            // What the connection says by itself stands in no second line.
            let base = [("left", "192.0.2.1"), ("right", "192.0.2.2"), ("authby", "secret"), ("auto", "add")];
            let rest: String = base
                .iter()
                .filter(|(key, _)| *key != keyword || section == Section::Daemon)
                .map(|(key, value)| format!("\t{key}={value}\n"))
                .collect();
            let text = format!(
                "config setup\n{setup}conn a\n{rest}{own}conn b\n\tleft=192.0.2.1\n\tright=192.0.2.3\n\tauthby=secret\n\tauto=add\n"
            );
            let mut tree = Tree::default();
            tree.add("etc/ipsec.conf", TreeFile::public(text.clone()));
            let (gateway, _) = known::read_as(profile, &tree);
            let lost = |name: &str| {
                gateway.connections.iter().find(|one| one.name == name).map(|one| one.remainder.bearing(Bearing::Refused).is_some())
            };
            let (takes, said) = starter_takes(folder.path(), &text);
            count += 1;
            // Values that only the daemon behind the starter sees are not asked of it.
            let of_daemon = profile.statements.iter().any(|row| row.keyword == keyword && ["ike", "esp", "ah"].contains(&&*row.keyword));
            let b = (takes, lost("b") != Some(true));
            let a = (takes && !said.contains("ignored conn 'a'"), lost("a") != Some(true));
            if b.0 != b.1 {
                let _ = writeln!(wrong, "{section:?} {keyword}={value}: the starter {} everything", if b.0 { "keeps" } else { "loses" });
            } else if a.0 != a.1 && !of_daemon {
                let _ =
                    writeln!(wrong, "{section:?} {keyword}={value}: the starter {} the connection", if a.0 { "keeps" } else { "loses" });
            }
        }
    }
    assert!(wrong.is_empty(), "of {count}:\n{wrong}");
    println!("{count} statements held against starter --conftest");
}

/// Texts whose form the parser takes or not.
#[test]
#[ignore = "needs the packages of the daemons, which ./test installs"]
fn the_starter_breaks_off_where_it_is_said_to() {
    let profile = known::platform("strongswan-starter");
    let folder = tempfile::tempdir().expect("a folder");
    let good = "conn b\n\tleft=192.0.2.1\n\tright=192.0.2.3\n\tauthby=secret\n\tauto=add\n";
    for text in [
        "",
        "x\n",
        "conn\n",
        "conn a b\n",
        "conn a\n\tleft\n",
        "conn a\n\tleftid=C=CH\n",
        "conn a\n\tleftid=\"C=CH\"\n",
        "conn a\n\tleftid=\"x\n",
        "conn a\n\talso=z\n",
        "conn a\n\talso=a\n",
        "conn a\n\talso=b\n",
        "ca x\n\tcacert=y\n",
        "conn a#x\n\tauto = add # x\n",
        " conn a\n",
        "version 2\n",
        "version=2\n",
        "config  setup\n",
        "config setup\n\tx=y\n",
        "config setup x\n",
        "\t\n \n#\n",
        "\tleft=192.0.2.9\n",
        "connection a\n",
        "include /nowhere/*.conf\n",
        "conn a\n\tauto=\"a\\\nd\\d\"\n",
        "conn a\n\tleft=1 2 3\n",
        "conn %default\n\tauto=add\n",
        "conn \"a b\"\n\tauto=add\n",
        "conn a\n\t=x\n",
        "conn a\r\n\tauto=add\r\n",
        "conn a\nauto=add\n",
        "conn a\n\n\n   auto=add\n",
        "conn a\n\tleftid=@#6b\n",
        "conn a\n\tauto==add\n",
    ] {
        let text = [text, good].concat();
        let mut tree = Tree::default();
        tree.add("etc/ipsec.conf", TreeFile::public(text.clone()));
        let (gateway, _) = known::read_as(profile, &tree);
        let kept = gateway
            .connections
            .iter()
            .any(|one| one.children.iter().any(|child| child.name == "b") && one.remainder.bearing(Bearing::Refused).is_none());
        let (takes, said) = starter_takes(folder.path(), &text);
        assert_eq!(kept, takes, "{text}\n{said}");
    }
}
