//! Every keyword that a reader knows: with another value the gateway is another one, or a finding names it. None is spared without a
//! reason in its row.

use std::collections::{BTreeMap, BTreeSet};

use crate::gateways::{gateway, remarks};
use crate::known;
use proptest::prelude::*;
use proptest::strategy::ValueTree;
use proptest::test_runner::{RngAlgorithm, TestRng, TestRunner};
use uspan_core::statement::{Codec, Says, Section, Statement};
use uspan_core::*;

/// Values of every kind, and what is none.
const VALUES: &[&str] = &[
    "yes",
    "no",
    "0",
    "1",
    "7",
    "3600",
    "99m",
    "2h",
    "none",
    "start",
    "trap",
    "trap|start",
    "restart",
    "clear",
    "hold",
    "tunnel",
    "transport",
    "psk",
    "pubkey",
    "secret",
    "rsasig",
    "10.77.0.0/16",
    "dynamic",
    "203.0.113.99",
    "gw.example.net",
    "%any",
    "fqdn:other.example.net",
    "@other.example.net",
    "aes128-sha256-modp3072",
    "aes128-sha2_256;modp3072",
    "other.pem",
    "47/0",
    "6",
    "insist",
    "never",
    "esp",
    "ah",
    "ike",
    "ikev1",
    "nonsense!",
    "/root/mine.sh",
    "auto",
    "ondemand",
    "add",
    "out",
    "always",
];

/// A statement in a file: its section by the nearest line above that opens one, its keyword, and the range of its value.
struct Line {
    section: Section,
    keyword: String,
    indent: String,
    start: usize,
    value: std::ops::Range<usize>,
}

/// The statements of a file that the program wrote.
fn lines(text: &str, swanctl: bool) -> Vec<Line> {
    let (mut found, mut at, mut section) = (Vec::new(), 0, Section::Connection);
    for line in text.split_inclusive('\n') {
        let said = line.trim_end();
        if swanctl {
            section = match said {
                "    local {" => Section::LocalEnd,
                "    remote {" => Section::RemoteEnd,
                "    children {" => Section::Child,
                "    }" => Section::Connection,
                _ => section,
            };
        } else if said.starts_with("config ") {
            section = Section::Daemon;
        } else if said.starts_with("conn ") {
            section = if text[at..].lines().nth(1).is_some_and(|next| next.starts_with("\talso=")) {
                Section::Child
            } else {
                Section::Connection
            };
        }
        if let Some((keyword, value)) = said.split_once('=').filter(|_| !said.trim_start().starts_with('#')) {
            let start = at + keyword.len() + 1 + (value.len() - value.trim_start().len());
            found.push(Line {
                section,
                keyword: keyword.trim().to_owned(),
                indent: keyword[..keyword.len() - keyword.trim_start().len()].to_owned(),
                start: at,
                value: start..at + said.len(),
            });
        }
        at += line.len();
    }
    found
}

/// The values that a row is tried with.
fn tried(row: &Statement) -> BTreeSet<String> {
    // A keyword that stands alone is there or not.
    if let Says::Field(_, Codec::Alone(_)) = &row.says {
        return BTreeSet::from([String::new()]);
    }
    let mut all: BTreeSet<String> = VALUES.iter().map(|value| (*value).to_owned()).collect();
    if let Says::Field(_, Codec::Words(words)) = &row.says {
        all.extend(words.iter().map(|(word, _)| word.to_string()));
    }
    all
}

/// The text with another value for a keyword, where it stands or beside the others of its section; and the value that it had.
fn with(text: &str, swanctl: bool, row: &Statement, value: &str) -> Option<(String, Option<String>)> {
    let found = lines(text, swanctl);
    if let Some(line) = found.iter().find(|line| line.section == row.section && line.keyword == row.keyword) {
        let mut changed = text.to_owned();
        changed.replace_range(line.value.clone(), value);
        return Some((changed, Some(text[line.value.clone()].to_owned())));
    }
    let beside = found.iter().find(|line| line.section == row.section)?;
    let between = if swanctl { " = " } else { "=" };
    let mut changed = text.to_owned();
    changed.insert_str(beside.start, &format!("{}{}{between}{value}\n", beside.indent, row.keyword));
    Some((changed, None))
}

/// The same where statements are words: a part of a policy or a setting of the daemon.
fn with_words(text: &str, rows: &[Statement], row: &Statement, value: &str) -> Option<(String, Option<String>)> {
    let is_list = matches!(&row.says, Says::Field(_, Codec::Items(..)));
    let is_alone = matches!(&row.says, Says::Nothing(_) | Says::Field(_, Codec::Alone(_)));
    let value = match () {
        () if is_alone => String::new(),
        () if is_list => value.to_owned(),
        () => format!("\"{value}\""),
    };
    let mut changed = text.to_owned();
    if row.section == Section::Daemon {
        let begin = format!("set {}", row.keyword);
        let Some(at) = text.find(&begin) else { return Some((format!("{begin} {value}\n{text}"), None)) };
        let end = at + text[at..].find('\n')?;
        let before = text[at + begin.len()..end].trim().to_owned();
        changed.replace_range(at..end, &format!("{begin} {value}"));
        return Some((changed, Some(before)));
    }
    let policy = text.find("\nikev2 ")? + 1;
    let said = [format!("\t{} ", row.keyword), format!(" {} ", row.keyword), format!("\t{}\n", row.keyword)];
    let found = said.iter().find_map(|said| text[policy..].find(said.as_str()).map(|at| policy + at + 1));
    // Of words that mean the same field one stands there.
    let field = |row: &Statement| match &row.says {
        Says::Field(field, Codec::Alone(_)) => Some(*field),
        _ => None,
    };
    let twins = rows.iter().filter(|twin| field(row).is_some() && twin.section == row.section && field(twin) == field(row));
    let twin = twins.map(|twin| format!(" {} ", twin.keyword)).find(|twin| text[policy..].contains(twin.as_str()));
    if let (None, Some(twin)) = (found, twin) {
        let at = policy + text[policy..].find(&twin)?;
        changed.replace_range(at..at + twin.len(), &format!(" {} ", row.keyword));
        return Some((changed, Some(twin.trim().to_owned())));
    }
    let Some(at) = found else {
        let here = policy + text[policy..].find(" esp")? + " esp".len();
        changed.insert_str(here, &format!(" {} {value}", row.keyword));
        return Some((changed, None));
    };
    let start = at + row.keyword.len();
    if is_alone {
        // Without it.
        changed.replace_range(at..start, "");
        return Some((changed, Some(row.keyword.to_string())));
    }
    let rest = &text[start + 1..];
    let length = if is_list { rest.find(['\\', '\n'])? } else { rest.find([' ', '\n'])? };
    let before = rest[..length].trim().trim_matches('"').to_owned();
    changed.replace_range(start + 1..start + 1 + length, &format!("{value} "));
    Some((changed, Some(before)))
}

/// What a word for yes or no means.
fn flag(text: &str) -> Option<bool> {
    match text {
        "yes" | "true" | "1" | "enabled" => Some(true),
        "no" | "false" | "0" | "disabled" => Some(false),
        _ => None,
    }
}

/// How statements stand in the files of a profile.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Syntax {
    Sections,
    Lines,
    Words,
}

#[test]
fn another_value_is_another_gateway_or_is_named() {
    let mut runner = TestRunner::new_with_rng(Default::default(), TestRng::deterministic_rng(RngAlgorithm::ChaCha));
    let mut counted = BTreeMap::new();
    const ENOUGH: u32 = 12;
    let rounds = if known::cases(1) >= 1_000 { ENOUGH } else { 1 };
    for (place, profile) in known::context().of_ours().enumerate().filter(|(_, profile)| !profile.statements.is_empty()) {
        let below = |part: &str| profile.reads_below.iter().any(|begin| begin.contains(part));
        let syntax = if below("swanctl") {
            Syntax::Sections
        } else if below("iked") {
            Syntax::Words
        } else {
            Syntax::Lines
        };
        // A round is enough for most; several reach every version, method and mode.
        for _ in 0..rounds {
            let sayable = gateway(place).new_tree(&mut runner).expect("a gateway").current();
            let tree = profile.write(&sayable, &remarks()).expect("it can say that");
            for row in &profile.statements {
                let file = match (row.section, syntax) {
                    (Section::Daemon, Syntax::Words) => "iked.conf",
                    (Section::Daemon, _) => "uspan.setup.conf",
                    _ => "harvest.conf",
                };
                // Only some gateways need settings of the whole daemon.
                let Some(path) = tree.files.keys().find(|path| path.ends_with(file)).cloned() else { continue };
                let text = tree.files[&path].text.clone();
                for value in tried(row) {
                    let made = match syntax {
                        Syntax::Words => with_words(&text, &profile.statements, row, &value),
                        lines => with(&text, lines == Syntax::Sections, row, &value),
                    };
                    let Some((changed, before)) = made else { continue };
                    let mut other = tree.clone();
                    other.add(path.clone(), TreeFile::public(changed.clone()));
                    let (read, findings) = profile.read(&other);
                    let says = |text: &str| text.contains(&*row.keyword) || text.contains(&value);
                    let named = findings.iter().any(|finding| {
                        let placed = finding.place.as_ref().and_then(|place| changed.get(place.span.range()));
                        says(&finding.message) || placed.is_some_and(says)
                    });
                    let same = before.as_ref().is_some_and(|before| row.is_same(profile, before, &value));
                    let idle = match &row.says {
                        Says::Nothing(why) => !why.is_empty(),
                        Says::Only(values, _) => {
                            values.iter().any(|one| one.eq_ignore_ascii_case(&value) || flag(one).is_some() && flag(one) == flag(&value))
                        }
                        Says::Field(..) => false,
                    };
                    // What has no field is kept beside the fields.
                    let kept = read.connections.iter().any(|connection| !connection.remainder.0.is_empty());
                    // Without the statement its default holds, which may be just that.
                    let stated = before.is_some() || read == sayable && findings.is_empty() && row.default_is(profile, &value);
                    let spared = row.spares.as_ref().is_some_and(|why| !why.is_empty());
                    let seen = read != sayable || named || kept || same || idle || spared || (before.is_none() && stated);
                    assert!(seen, "{} {:?} `{}`, {before:?} to `{value}`:\n{changed}", profile.word, row.section, row.keyword);
                    *counted.entry((profile.word.to_string(), row.keyword.to_string())).or_insert(0) +=
                        usize::from(read != sayable || named);
                }
            }
        }
        let tried_all = rounds == ENOUGH;
        for row in profile.statements.iter().filter(|row| tried_all && row.spares.is_none() && matches!(row.says, Says::Field(..))) {
            let times = counted.get(&(profile.word.to_string(), row.keyword.to_string())).copied().unwrap_or(0);
            assert!(times > 0, "{}: `{}` was never tried with another value", profile.word, row.keyword);
        }
    }
}
