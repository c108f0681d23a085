//! The formats of ipsec.conf(5) and ipsec.secrets(5).

use std::borrow::Cow;
use std::collections::{HashMap, HashSet};

use crate::dialect::IPSEC_SECRETS;
use crate::dialect::Unwritable;
use crate::text::{Opened, Word, included};
use uspan_model::finding::{self as rules, Finding};
use uspan_model::gateway::Tree;
use uspan_model::source::{Source, Span};

use super::{FOLDER, MAIN};
use zeroize::Zeroizing;

/// A `conn` or `config` section, in the order of the file.
#[derive(Clone, Debug)]
pub(super) struct ConfSection {
    pub kind: String,
    pub name: Word,
    /// Keys in lower case, in their current spelling.
    pub settings: Vec<(Word, Word)>,
    /// The connection that it takes over: one with both ends, whose IKE SA it shares.
    pub base: Option<String>,
    /// Others take it over.
    pub is_base: bool,
}

impl ConfSection {
    /// A setting; an empty one says nothing.
    pub(super) fn get(&self, key: &str) -> Option<&Word> {
        self.settings.iter().find(|(name, value)| name.value == key && !value.value.is_empty()).map(|(_, value)| value)
    }

    /// The same with its two ends exchanged.
    pub(super) fn turned(mut self) -> ConfSection {
        for (key, _) in &mut self.settings {
            let turned = match (key.value.strip_prefix("left"), key.value.strip_prefix("right")) {
                (Some(rest), _) => ["right", rest].concat(),
                (_, Some(rest)) => ["left", rest].concat(),
                _ => continue,
            };
            key.value = turned;
        }
        self
    }

    /// The values of a setting that may come several times, each of which may be a list.
    fn all<'a>(&'a self, key: &'static str) -> impl Iterator<Item = &'a str> {
        let of = self.settings.iter().filter(move |(name, _)| name.value == key);
        of.flat_map(|(_, value)| value.value.split([',', ' ', '\t']).filter(|name| !name.is_empty()))
    }
}

/// As many settings as most sections have.
const ROOM: usize = 32;

/// Keys that are written in another way today (ipsec.conf(5)).
const ALIASES: [(&str, &str); 8] = [
    ("keylife", "salifetime"),
    ("lifetime", "salifetime"),
    ("phase2alg", "esp"),
    ("forceencaps", "encapsulation"),
    ("aggrmode", "aggressive"),
    ("remote_peer_type", "remote-peer-type"),
    ("labeled_ipsec", "labeled-ipsec"),
    ("policy_label", "policy-label"),
];

/// Settings that name other sections, which are taken over.
const REFERENCES: [&str; 2] = ["also", "alsoflip"];

/// Reads the sections of the main file and of what it includes; without it, those of the folder that the packaged one
/// includes. Connections are whole: with what they take over from others and from the defaults.
pub(super) fn load(tree: &Tree) -> LoadedConf {
    let (mut sections, mut findings, mut opened) = (Vec::new(), Vec::new(), Opened::of(tree));
    if tree.files.contains_key(MAIN) {
        file(tree, MAIN, &mut opened, &mut sections, &mut findings);
    } else {
        for (path, _) in tree.in_folder(FOLDER, ".conf") {
            file(tree, path, &mut opened, &mut sections, &mut findings);
        }
    }
    let bases: HashSet<&str> = sections.iter().flat_map(|section| REFERENCES.iter().flat_map(|key| section.all(key))).collect();
    let all = All::of(&sections);
    let mut whole = Vec::new();
    for section in sections.iter().filter(|section| section.kind == "conn" && section.name.value != "%default") {
        let mut taking = TakeOver {
            section,
            settings: Settings::of(section),
            taken: HashSet::new(),
            told: false,
            findings: &mut findings,
            opened: &mut opened,
        };
        taking.taken.insert(&section.name.value);
        taking.append(section, &all, false, 0);
        for default in &all.defaults {
            taking.add(default, false);
        }
        let settings = taking.settings.list;
        let peer = |name: &&str| all.get(name).is_some_and(|other| other.get("left").is_some() && other.get("right").is_some());
        let base = section.all("also").find(peer).map(str::to_owned);
        let is_base = bases.contains(section.name.value.as_str());
        whole.push(ConfSection { kind: section.kind.clone(), name: section.name.clone(), settings, base, is_base });
    }
    findings.extend(opened.finding());
    let setup = sections.into_iter().filter(|section| section.kind == "config").flat_map(|section| section.settings).collect();
    LoadedConf { connections: whole, setup, findings }
}

/// What the files say.
pub(super) struct LoadedConf {
    /// The connections, each whole.
    pub connections: Vec<ConfSection>,
    /// What is said for the whole daemon.
    pub setup: Vec<(Word, Word)>,
    pub findings: Vec<Finding>,
}

/// Sections by name; of two of one name the first one.
struct All<'a> {
    named: HashMap<&'a str, &'a ConfSection>,
    defaults: Vec<&'a ConfSection>,
}

impl<'a> All<'a> {
    fn of(sections: &'a [ConfSection]) -> All<'a> {
        let mut named = HashMap::new();
        for section in sections.iter().filter(|section| section.kind == "conn") {
            named.entry(section.name.value.as_str()).or_insert(section);
        }
        let defaults = sections.iter().filter(|section| section.kind == "conn" && section.name.value == "%default").collect();
        All { named, defaults }
    }

    fn get(&self, name: &str) -> Option<&'a ConfSection> {
        self.named.get(name).copied()
    }
}

/// Settings in their order, of which the first of a name counts.
struct Settings {
    list: Vec<(Word, Word)>,
    /// Names of the settings, where they are too many to be looked through.
    names: HashSet<String>,
}

/// As many are looked through.
const FEW: usize = 64;

impl Settings {
    fn of(section: &ConfSection) -> Settings {
        let mut settings = Settings { list: Vec::with_capacity(ROOM.max(section.settings.len())), names: HashSet::new() };
        section.settings.iter().for_each(|(key, value)| settings.push(key.clone(), value.clone()));
        settings
    }

    fn has(&self, name: &str) -> bool {
        if self.list.len() <= FEW { self.list.iter().any(|(known, _)| known.value == name) } else { self.names.contains(name) }
    }

    fn push(&mut self, key: Word, value: Word) {
        match self.list.len() {
            ..FEW => {}
            FEW => self.names = self.list.iter().map(|(known, _)| known).chain([&key]).map(|known| known.value.clone()).collect(),
            _ => drop(self.names.insert(key.value.clone())),
        }
        self.list.push((key, value));
    }
}

/// A connection that takes over others.
struct TakeOver<'a> {
    section: &'a ConfSection,
    settings: Settings,
    taken: HashSet<&'a str>,
    told: bool,
    findings: &'a mut Vec<Finding>,
    opened: &'a mut Opened,
}

/// Deeper than anybody lets sections take over each other.
const DEEPEST: usize = 64;

impl<'a> TakeOver<'a> {
    /// Adds the settings of the sections that one names, as if they stood there.
    fn append(&mut self, of: &'a ConfSection, all: &All<'a>, flipped: bool, depth: usize) {
        for (key, flips) in [("also", false), ("alsoflip", true)] {
            // What one says twice is told once.
            let mut said = HashSet::new();
            for name in of.all(key) {
                if !self.opened.afford(&self.section.name.place.file, 1) {
                    return;
                }
                let flipped = flipped != flips;
                let place = || of.name.place.clone();
                match all.get(name) {
                    // None may be taken over twice (ipsec.conf(5)).
                    Some(base) if depth < DEEPEST && self.taken.insert(name) => {
                        self.add(base, flipped);
                        self.append(base, all, flipped, depth + 1);
                    }
                    // One of a connection is told; the others follow from it.
                    Some(_) if !std::mem::replace(&mut self.told, true) => {
                        let message = format!("`{name}` is taken over twice, or takes over itself");
                        self.findings.push(Finding::new(&rules::DEVICE_VALUE, message).at(place()));
                    }
                    None if said.insert(name) => {
                        self.findings.push(Finding::new(&rules::DEVICE_VALUE, format!("there is no section `{name}`")).at(place()));
                    }
                    _ => {}
                }
            }
        }
    }

    /// Adds settings that are not there yet; with left and right exchanged where that is asked for.
    fn add(&mut self, base: &'a ConfSection, flipped: bool) {
        for (key, value) in base.settings.iter().filter(|(key, _)| !key.value.starts_with("also")) {
            let name = match (flipped, key.value.strip_prefix("left"), key.value.strip_prefix("right")) {
                (true, Some(rest), _) => Cow::Owned(["right", rest].concat()),
                (true, _, Some(rest)) => Cow::Owned(["left", rest].concat()),
                _ => Cow::Borrowed(key.value.as_str()),
            };
            // As much as is copied.
            let size = key.value.len() + value.value.len();
            if !self.settings.has(&name) && self.opened.afford(&self.section.name.place.file, size) {
                self.settings.push(Word { value: name.into_owned(), place: key.place.clone() }, value.clone());
            }
        }
    }
}

fn file(tree: &Tree, path: &str, opened: &mut Opened, sections: &mut Vec<ConfSection>, findings: &mut Vec<Finding>) {
    let Some(found) = tree.files.get(path).filter(|file| opened.enter(path, &file.text)) else { return };
    let source = Source::new(path, found.text.as_str());
    let (mut own, syntax) = parse(&source);
    findings.extend(syntax);
    for section in own.drain(..) {
        if section.kind != "include" {
            sections.push(section);
            continue;
        }
        let pattern = &section.name;
        let files = included(tree, path, &pattern.value);
        for name in &files {
            if opened.has(name) {
                let message = format!("`{}` is included by itself", pattern.value);
                findings.push(Finding::new(&rules::DEVICE_VALUE, message).at(pattern.place.clone()));
            } else {
                file(tree, name, opened, sections, findings);
            }
        }
    }
    opened.leave();
}

/// A value of a setting. A value with white space stands in double quotes and cannot hold one.
///
/// # Errors
/// What the format has no way to say.
pub(super) fn quote(text: &str) -> Result<String, Unwritable> {
    if text.is_empty() || text.chars().any(|c| c.is_control() || c == '"') {
        return Err(Unwritable::new("a double quote, a control character or nothing at all in a value", "Choose a plain value."));
    }
    let plain = text.bytes().all(|b| b.is_ascii_graphic() && !b"#='\\".contains(&b)) && !text.starts_with('-');
    Ok(if plain { text.to_owned() } else { format!("\"{text}\"") })
}

/// Reads a configuration file. Total: what cannot be read is reported and skipped.
pub(super) fn parse(source: &Source) -> (Vec<ConfSection>, Vec<Finding>) {
    let (mut sections, mut findings): (Vec<ConfSection>, Vec<Finding>) = (Vec::new(), Vec::new());
    for (start, line) in lines(source.text()) {
        let indented = line.starts_with([' ', '\t']);
        let body = line.trim_ascii_start();
        if body.is_empty() || body.starts_with('#') {
            continue;
        }
        let at = start + (line.len() - body.len());
        let body = body.trim_ascii_end();
        let span = Span { start: at, end: at + body.len() };
        let word = |text: &str, span: Span| Word { value: text.to_owned(), place: source.place(span) };
        let broken = |message: &str| Finding::new(&rules::DEVICE_SYNTAX, message).at(source.place(span));
        if indented {
            let equals = memchr::memchr(b'=', body.as_bytes()).map(|at| (&body[..at], &body[at + 1..]));
            match (sections.iter_mut().rfind(|section| section.kind != "include"), equals) {
                (Some(section), Some((key, value))) => match unquote(value.trim_ascii()) {
                    Some(value) => {
                        let name = match key.trim_ascii() {
                            small if !small.bytes().any(|byte| byte.is_ascii_uppercase()) => Cow::Borrowed(small),
                            mixed => Cow::Owned(mixed.to_ascii_lowercase()),
                        };
                        let current = ALIASES.iter().find(|(old, _)| *old == name).map_or(&*name, |(_, current)| current);
                        let key = word(current, Span { start: at, end: at + key.trim_ascii_end().len() });
                        section.settings.push((key, word(value, span)));
                    }
                    None => findings.push(broken("a quote is not closed")),
                },
                (None, _) => findings.push(broken("a setting outside a section")),
                (_, None) => findings.push(broken("not a setting: `=` is missing")),
            }
            continue;
        }
        match body.split_once([' ', '\t']) {
            // A version says nothing any more.
            Some(("version", _)) => {}
            Some((kind @ ("conn" | "config" | "include"), name)) => {
                let name = name.split(" #").next().unwrap_or_default().trim();
                sections.push(ConfSection {
                    kind: kind.to_owned(),
                    name: word(name, span),
                    settings: Vec::with_capacity(ROOM),
                    base: None,
                    is_base: false,
                });
            }
            _ => findings.push(broken("neither a section nor a setting; settings are indented")),
        }
    }
    (sections, findings)
}

fn unquote(value: &str) -> Option<&str> {
    match value.strip_prefix('"') {
        Some(rest) => {
            let (inner, after) = rest.split_once('"')?;
            (after.trim().is_empty() || after.trim_start().starts_with('#')).then_some(inner)
        }
        // A comment stands behind white space.
        None => {
            let marks = memchr::memchr_iter(b'#', value.as_bytes());
            let end = marks.into_iter().find(|at| value[..*at].ends_with([' ', '\t']) || *at == 0);
            Some(value[..end.unwrap_or(value.len())].trim_end())
        }
    }
}

/// Lines with the offset of their first byte.
pub(super) fn lines(text: &str) -> impl Iterator<Item = (usize, &str)> {
    let mut start = 0;
    let ends = memchr::memchr_iter(b'\n', text.as_bytes()).map(|end| end + 1);
    // Behind the last line end may be a line without one.
    ends.chain((!text.is_empty() && !text.ends_with('\n')).then_some(text.len())).map(move |end| {
        let at = std::mem::replace(&mut start, end);
        (at, text[at..end].trim_end_matches(['\n', '\r']))
    })
}

/// An entry of a secrets file: what stands before ` : PSK ` and what after it.
pub(super) struct SecretLine {
    pub identities: Vec<String>,
    pub secret: Zeroizing<String>,
    pub span: Span,
}

/// Reads a secrets file.
pub(super) fn parse_secrets(source: &Source, findings: &mut Vec<Finding>) -> Vec<SecretLine> {
    let mut entries: Vec<(Zeroizing<String>, Span)> = Vec::new();
    findings.extend(IPSEC_SECRETS.in_pieces(source));
    for (start, line) in IPSEC_SECRETS.lines(source.text()) {
        let body = line.trim();
        if body.is_empty() || body.starts_with('#') || body.starts_with("include ") {
            continue;
        }
        let span = Span { start, end: start + line.len() };
        match entries.last_mut() {
            // An entry goes on where lines are indented.
            Some((text, whole)) if line.starts_with([' ', '\t']) => {
                text.push(' ');
                text.push_str(body);
                whole.end = span.end;
            }
            _ => entries.push((Zeroizing::new(body.to_owned()), span)),
        }
    }
    let entry = |(text, span): &(Zeroizing<String>, Span)| {
        // The colon stands alone: addresses of IPv6 have others.
        let (ids, rest) =
            if let Some(rest) = text.strip_prefix(':') { ("", rest) } else { text.split_once(" : ").or_else(|| text.split_once(" :"))? };
        let (kind, secret) = rest.trim_start().split_once([' ', '\t'])?;
        let shared = kind.eq_ignore_ascii_case("psk");
        shared.then(|| SecretLine { identities: ids_of(ids), secret: Zeroizing::new(secret.trim().to_owned()), span: *span })
    };
    let mut found = Vec::new();
    for each in &entries {
        match entry(each) {
            Some(line) => found.push(line),
            None => findings
                .push(Finding::new(&rules::DEVICE_UNKNOWN, "a secrets entry of a kind that is not understood").at(source.place(each.1))),
        }
    }
    found
}

/// Identities, of which those with white space stand in quotes. `%any` is nobody in particular.
fn ids_of(text: &str) -> Vec<String> {
    let mut ids = Vec::new();
    for (i, part) in text.split('"').enumerate() {
        match i % 2 {
            1 => ids.push(part.to_owned()),
            _ => ids.extend(
                part.split([' ', '\t', ',']).filter(|id| !id.is_empty() && !["%any", "%any6", "0.0.0.0"].contains(id)).map(str::to_owned),
            ),
        }
    }
    ids
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn read(text: &str) -> (Vec<ConfSection>, usize) {
        let (sections, findings) = parse(&Source::new("f", text));
        (sections, findings.len())
    }

    #[test]
    fn sections_settings_and_comments() {
        let (sections, findings) = read("# c\nconn a\n\tb=c\n  # d\n\te = \"f g\"\n\nconfig setup\n");
        assert_eq!(findings, 0);
        assert_eq!(sections.len(), 2);
        assert_eq!(sections[0].get("e").map(|v| v.value.as_str()), Some("f g"));
    }

    #[test]
    fn what_cannot_be_read_is_reported() {
        for text in ["nonsense", "\tb=c", "conn a\n\tb", "conn a\n\tb=\"c"] {
            assert_eq!(read(text).1, 1, "{text}");
        }
    }

    proptest! {
        #[test]
        fn quoting_round_trips(value in "[ -!#-~äß]{1,40}") {
            let text = format!("conn a\n\tk={}\n", quote(&value).expect("sayable"));
            let (sections, findings) = read(&text);
            prop_assert_eq!(findings, 0);
            prop_assert_eq!(&sections[0].get("k").expect("k").value, &value);
        }

        #[test]
        fn any_text_is_survived(text in "[cons =\"#\t\n:é]{0,200}") {
            let source = Source::new("f", text);
            let _ = parse(&source);
            let _ = parse_secrets(&source, &mut Vec::new());
        }
    }
}
