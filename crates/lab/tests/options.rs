//! Every option that the daemons' packages document, in their configuration files and manual pages, with each value that they name for it:
//! none that the daemon takes is called wrong here. What becomes of each is a page of the reference.
//!
//! Needs the packages, which `uspan prove --prepare` installs. `USPAN_WRITE_PAGES=1` writes the page anew.

#[path = "../../core/tests/common/known.rs"]
mod known;

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;
use std::path::Path;
use std::process::Command;

use uspan_core::statement::{Says, Section, Statement};
use uspan_core::{Bearing, Profile, Tree, TreeFile};

/// An option: where it stands, and what is named for it.
#[derive(Debug)]
struct Documented {
    section: &'static str,
    sections: &'static [Section],
    keyword: String,
    values: Vec<String>,
}

fn packaged(name: &str) -> std::path::PathBuf {
    uspan_lab::default_cache().join(name)
}

fn page(path: &Path) -> String {
    let ran = Command::new("zcat").arg(path).output().expect("zcat runs");
    assert!(ran.status.success(), "{}", path.display());
    String::from_utf8_lossy(&ran.stdout).replace("\\-", "-").replace("\\&", "")
}

/// The packaged swanctl.conf: every setting stands there, behind a mark, with its default.
fn of_swanctl() -> Vec<Documented> {
    let text = std::fs::read_to_string("/etc/swanctl/swanctl.conf").expect("strongswan-swanctl is installed");
    let (mut open, mut found): (Vec<String>, Vec<Documented>) = (Vec::new(), Vec::new());
    for line in text.lines().filter_map(|line| line.trim().strip_prefix("# ")) {
        if let Some(name) = line.strip_suffix(" {") {
            open.push(name.to_owned());
        } else if line == "}" {
            open.pop();
        } else if let Some((keyword, value)) = line.split_once(" =") {
            let path: Vec<&str> = open.iter().map(String::as_str).collect();
            let (section, sections): (_, &[Section]) = match path.as_slice() {
                ["connections", _] => ("connection", &[Section::Connection]),
                ["connections", _, local] if local.starts_with("local") => ("own end", &[Section::LocalEnd]),
                ["connections", _, remote] if remote.starts_with("remote") => ("peer's end", &[Section::RemoteEnd]),
                ["connections", _, "children", _] => ("Child SA", &[Section::Child]),
                // Sections of sections, and those beside connections, are named as a whole.
                _ => continue,
            };
            found.push(Documented {
                section,
                sections,
                keyword: keyword.to_owned(),
                values: Vec::from_iter(Some(value.trim().to_owned()).filter(|value| !value.contains(' '))),
            });
        }
    }
    found
}

/// The words in bold of a text.
fn bold(text: &str) -> BTreeSet<String> {
    let words = text.split("\\fB").skip(1).filter_map(|part| part.split("\\f").next());
    let plain = |word: &&str| !word.is_empty() && word.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"%._-".contains(&byte));
    words.map(|word| word.trim_end_matches(['.', ','])).filter(plain).map(str::to_owned).collect()
}

/// Libreswan's ipsec.conf(5): an option in bold on a line of its own, and a paragraph that names its values in bold.
fn of_libreswan() -> Vec<Documented> {
    let text = page(&packaged("libreswan").join("usr/share/man/man5/ipsec.conf.5.gz"));
    let (mut setup, mut found) = (false, Vec::<Documented>::new());
    let lines: Vec<&str> = text.lines().collect();
    for (at, line) in lines.iter().enumerate() {
        if line.starts_with(".SH") {
            setup = line.contains("CONFIG") || (setup && !line.contains("CONN"));
        }
        let Some(keyword) = line.strip_prefix("\\fB").and_then(|rest| rest.strip_suffix("\\fR")) else { continue };
        let is_option = lines.get(at + 1).is_some_and(|next| next.starts_with(".RS"));
        if !is_option || !keyword.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"-_".contains(&byte)) {
            continue;
        }
        let paragraph: Vec<&str> = lines[at + 2..].iter().take_while(|line| !line.starts_with(".RE")).copied().collect();
        let (section, sections): (_, &[Section]) = match setup {
            true => ("daemon", &[Section::Daemon]),
            false => ("connection", &[Section::Connection, Section::Child]),
        };
        found.push(Documented {
            section,
            sections,
            keyword: keyword.to_owned(),
            values: bold(&paragraph.join("\n")).into_iter().collect(),
        });
    }
    // Other options, programs and units that a paragraph names are no values; nor are the words of proposals, which stand for themselves.
    let names: BTreeSet<String> = found.iter().map(|option| option.keyword.clone()).chain(["salifetime".to_owned()]).collect();
    for option in &mut found {
        let is_value = |value: &String| !names.contains(value) && value.len() > 1 && !value.starts_with("ipsec");
        let is_list = ["ike", "esp", "ah", "phase2alg"].contains(&&*option.keyword);
        option.values.retain(|value| is_value(value) && !is_list);
    }
    found
}

/// The starter's ipsec.conf(5): `.BR keyword " = " value " | value"`.
fn of_starter() -> Vec<Documented> {
    let text = page(&packaged("strongswan-starter").join("usr/share/man/man5/ipsec.conf.5.gz"));
    let (mut heading, mut found) = (String::new(), Vec::new());
    for line in text.lines() {
        if let Some(rest) = line.strip_prefix(".SH").or(line.strip_prefix(".SS")) {
            heading = rest.to_owned();
        }
        let Some(rest) = line.strip_prefix(".BR ").filter(|rest| rest.contains(" = ")) else { continue };
        let plain = rest.replace('"', "");
        let Some((keyword, values)) = plain.split_once(" = ") else { continue };
        let (section, sections): (_, &[Section]) = match () {
            () if heading.contains("CA SECTIONS") => continue,
            () if heading.contains("CONFIG") || heading.contains("config setup") => ("daemon", &[Section::Daemon]),
            () => ("connection", &[Section::Connection, Section::Child]),
        };
        let values = values.split('|').map(str::trim).filter(|value| !value.is_empty() && !value.contains(['<', ' ']));
        found.push(Documented { section, sections, keyword: keyword.trim().to_owned(), values: values.map(str::to_owned).collect() });
    }
    found
}

/// Whether the daemon takes a statement.
fn is_taken(word: &str, folder: &Path, option: &Documented, value: &str) -> bool {
    let said = told(word, folder, option, value);
    !["cannot load config", "invalid value", "syntax error", "unexpected", "ignored conn", "config invalid", "unknown keyword"]
        .iter()
        .any(|text| said.contains(text))
}

/// What the daemon's parser says of a statement.
fn told(word: &str, folder: &Path, option: &Documented, value: &str) -> String {
    let (keyword, line) = (&option.keyword, format!("\t{}={value}\n", option.keyword));
    let daemon = option.section == "daemon";
    let base = [("left", "192.0.2.1"), ("right", "192.0.2.2"), ("authby", "secret"), ("auto", "add")];
    let rest: String = base.iter().filter(|(key, _)| *key != keyword || daemon).map(|(key, value)| format!("\t{key}={value}\n")).collect();
    let (setup, own) = if daemon { (line.as_str(), "") } else { ("", line.as_str()) };
    let path = folder.join("ipsec.conf");
    std::fs::write(&path, format!("config setup\n{setup}\nconn a\n{rest}{own}")).expect("written");
    let mut command = match word {
        "libreswan" => {
            let mut command = Command::new(packaged("libreswan").join("usr/libexec/ipsec/addconn"));
            command.env("LD_LIBRARY_PATH", packaged("libreswan").join("usr/lib")).arg("--config").arg(&path).arg("--checkconfig");
            command
        }
        _ => {
            let mut command = Command::new(packaged("strongswan-starter").join("usr/lib/ipsec/starter"));
            command.arg("--conf").arg(&path).arg("--conftest");
            command
        }
    };
    let ran = command.output().expect("it runs");
    String::from_utf8_lossy(&[ran.stdout, ran.stderr].concat()).into_owned()
}

/// Whether the daemon knows a keyword at all.
fn is_keyword(word: &str, folder: &Path, option: &Documented) -> bool {
    let said = told(word, folder, option, "yes");
    !said.contains(&format!("syntax error [{}]", option.keyword)) && !said.contains("unknown keyword")
}

/// Whether a statement is called wrong here.
fn is_blamed(profile: &Profile, option: &Documented, value: &str) -> bool {
    told_of(profile, option, value).iter().any(|(code, _)| ["US801", "US803"].contains(code))
}

/// The findings about a statement.
fn told_of(profile: &Profile, option: &Documented, value: &str) -> Vec<(&'static str, String)> {
    let word = &*profile.word;
    let mut tree = Tree::default();
    if word == "strongswan" {
        let line = format!("{} = {value}\n", option.keyword);
        let of = |section: &str| if option.section == section { line.as_str() } else { "" };
        let text = format!(
            "connections {{\n a {{\n remote_addrs = 192.0.2.2\n{}local {{\n auth = psk\n{}}}\nremote {{\n auth = psk\n{}}}\nchildren {{\n b {{\n{}}}\n}}\n}}\n}}\n",
            of("connection"),
            of("own end"),
            of("peer's end"),
            of("Child SA")
        );
        tree.add("etc/swanctl/swanctl.conf", TreeFile::public(text));
    } else {
        let line = format!("\t{}={value}\n", option.keyword);
        let (setup, own) = if option.section == "daemon" { (line.as_str(), "") } else { ("", line.as_str()) };
        let base = "\tleft=192.0.2.1\n\tright=192.0.2.2\n\tauthby=secret\n\tauto=add\n";
        let base: String =
            base.lines().filter(|line| !line.trim().starts_with(&format!("{}=", option.keyword))).map(|line| format!("{line}\n")).collect();
        // Without it the daemon drops IKEv1.
        let policy = if word == "libreswan" && option.keyword != "ikev1-policy" { "\tikev1-policy=accept\n" } else { "" };
        tree.add("etc/ipsec.conf", TreeFile::public(format!("config setup\n{policy}{setup}\nconn a\n{base}{own}")));
    }
    let (_, findings) = known::read_as(profile, &tree);
    // What an option means for others is no fault of its own.
    let is_own = |finding: &&uspan_core::Finding| {
        finding.place.as_ref().is_some_and(|place| {
            let text = &tree.files[&*place.file].text;
            let start = text[..place.span.start].rfind('\n').map_or(0, |at| at + 1);
            text[start..].trim_start().starts_with(&option.keyword)
        })
    };
    findings.iter().filter(is_own).map(|finding| (finding.rule.code, finding.message.clone())).collect()
}

/// What becomes of an option, in words.
fn fate(row: Option<&Statement>) -> String {
    let Some(row) = row else { return "unknown: no verdict where it stands".to_owned() };
    match &row.says {
        Says::Field(..) => "read".to_owned(),
        Says::Nothing(why) => format!("passed over: {why}"),
        Says::Only(values, bearing) => {
            let list: Vec<_> = values.iter().filter(|value| !value.is_empty()).map(|value| format!("`{value}`")).collect();
            let else_ = match (bearing, &row.spares) {
                (Bearing::Aside, Some(why)) => format!("kept to be told: {why}"),
                (Bearing::Aside, None) => "kept to be told".to_owned(),
                (Bearing::Authentication, _) => "unknown: no verdict about who believes whom".to_owned(),
                (Bearing::ChildSa, _) => "unknown: no verdict about the Child SA".to_owned(),
                (Bearing::Refused, _) => "refused by the daemon".to_owned(),
                (Bearing::Unknown, _) => "unknown: no verdict".to_owned(),
            };
            if list.is_empty() { else_ } else { format!("passed over with {}; else {else_}", list.join(", ")) }
        }
    }
}

const HEAD: &str = "# What becomes of each option of a daemon's files\n\n\
    Written by a test (`cargo test -p uspan-lab --test options -- --include-ignored`), from the configuration files and manual pages in the\n\
    packages of Debian 12. Each value that they name for an option was given to the daemon's own parser; none that it takes is called wrong here.\n\n\
    - **read**: it is part of what is compared, rehearsed and adopted.\n\
    - **passed over**: it changes nothing that matters here, for the reason beside it.\n\
    - **kept to be told**: it decides neither whether a tunnel comes up nor what it carries; adopt says that it is left out.\n\
    - **unknown**: where it stands, no verdict is given that hangs on it.\n";

#[test]
#[ignore = "needs the packages of the daemons, which ./test installs"]
fn no_documented_option_is_called_wrong() {
    let folder = tempfile::tempdir().expect("a folder");
    let (mut text, mut wrong, mut tried) = (HEAD.to_owned(), String::new(), 0);
    for (word, options) in [("strongswan", of_swanctl()), ("strongswan-starter", of_starter()), ("libreswan", of_libreswan())] {
        let profile = known::platform(word);
        assert!(options.len() > 60, "{word}: {}", options.len());
        let mut rows: BTreeMap<(usize, &str, String), String> = BTreeMap::new();
        for (at, option) in options.iter().enumerate() {
            for value in option.values.iter().filter(|value| !value.is_empty()) {
                let taken = word == "strongswan" || is_taken(word, folder.path(), option, value);
                tried += usize::from(taken);
                if taken && is_blamed(profile, option, value) {
                    let _ = writeln!(wrong, "{word}: {} = {value}", option.keyword);
                }
            }
            let row = profile.statements.iter().find(|row| option.sections.contains(&row.section) && row.keyword == option.keyword);
            // A keyword without a row that nobody names is another one for a row.
            let alias = row.is_none() && told_of(profile, option, "yes").iter().all(|(_, message)| !message.contains(" setting "));
            let is_known = word == "strongswan" || is_keyword(word, folder.path(), option);
            if is_known && row.is_none() && !alias && word != "strongswan" && option.keyword != "also" {
                let _ = writeln!(wrong, "{word}: {}, a keyword of the daemon's", option.keyword);
            }
            let fate = if !is_known {
                "documented, and no keyword of this release's parser".to_owned()
            } else if option.keyword == "also" {
                "read: the section is taken over".to_owned()
            } else if alias {
                "read: another word for one of these".to_owned()
            } else {
                fate(row)
            };
            rows.entry((at, option.section, option.keyword.clone())).or_insert(fate);
        }
        let _ = write!(text, "\n## {}\n\n| option | stands at | what becomes of it |\n|---|---|---|\n", profile.title);
        let mut known = BTreeSet::new();
        for ((_, section, keyword), fate) in rows {
            if known.insert((section, keyword.clone())) {
                // A keyword that begins with a vendor's name is shown without that.
                let shown = if keyword.ends_with("-unity") { "…-unity" } else { &keyword };
                let _ = writeln!(text, "| `{shown}` | {section} | {fate} |");
            }
        }
    }
    assert!(wrong.is_empty(), "called wrong, and taken by the daemon:\n{wrong}");
    println!("{tried} documented values, none called wrong");
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/reference/options.md");
    if std::env::var_os("USPAN_WRITE_PAGES").is_some() {
        std::fs::write(&path, &text).expect("written");
    }
    assert_eq!(std::fs::read_to_string(&path).unwrap_or_default(), text, "USPAN_WRITE_PAGES=1 writes {}", path.display());
}
