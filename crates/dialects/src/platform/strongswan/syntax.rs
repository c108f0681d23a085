//! The settings format of strongswan.conf(5): sections, settings, comments, quoting.

use std::collections::{HashMap, HashSet};
use std::ops::Range;

use crate::dialect::Unwritable;
use crate::text::{Opened, Word, included, line_end};
use uspan_model::effort::steps;
use uspan_model::finding::{self as rules, Finding};
use uspan_model::gateway::Tree;
use uspan_model::source::{Place, Source, Span};

/// A section with everything in it, in the order of the files that it was read from.
#[derive(Clone, Debug, Default)]
pub(super) struct SettingsSection {
    pub name: Word,
    /// Absolute names of sections that it takes over.
    pub references: Vec<Word>,
    pub settings: Vec<(Word, Word)>,
    pub sections: Vec<SettingsSection>,
    /// Where each of them stands, by its name; where they are too many to be looked through.
    named: HashMap<String, usize>,
    /// Files to be taken in where the section stands, with the number of settings and sections that stood before.
    pub includes: Vec<(Word, usize, usize)>,
}

/// As many sections are looked through.
const FEW: usize = 16;

impl SettingsSection {
    pub(super) fn section(&self, name: &str) -> Option<&SettingsSection> {
        self.place(name).map(|at| &self.sections[at])
    }

    /// Where the first section of a name stands.
    fn place(&self, name: &str) -> Option<usize> {
        match self.sections.len() {
            ..=FEW => self.sections.iter().position(|section| section.name.value == name),
            _ => self.named.get(name).copied(),
        }
    }

    /// Adds a section; one of a name that is there already extends that.
    fn add(&mut self, inner: SettingsSection) {
        match self.place(&inner.name.value) {
            Some(at) => self.sections[at].extend(inner),
            None => self.push(inner),
        }
    }

    /// Adds a section beside those that are there; by its name the first one is found.
    fn push(&mut self, inner: SettingsSection) {
        let at = self.sections.len();
        self.sections.push(inner);
        let from = match at {
            ..FEW => return,
            FEW => 0,
            _ => at,
        };
        for (at, section) in self.sections.iter().enumerate().skip(from) {
            self.named.entry(section.name.value.clone()).or_insert(at);
        }
    }

    /// Leaves some out.
    fn retain(&mut self, keep: impl Fn(&SettingsSection) -> bool) {
        self.named.clear();
        for section in std::mem::take(&mut self.sections).into_iter().filter(keep) {
            self.push(section);
        }
    }

    /// The first section of this name, or of this name and a suffix.
    pub(super) fn with_suffix(&self, name: &str) -> Option<&SettingsSection> {
        self.sections.iter().find(|section| section.name.value.starts_with(name))
    }

    /// The value of a setting: the last one counts, and an empty one is none.
    pub(super) fn get(&self, key: &str) -> Option<&Word> {
        let found = self.settings.iter().rfind(|(name, _)| name.value == key).map(|(_, value)| value)?;
        (!found.value.is_empty()).then_some(found)
    }

    /// How many sections, settings and references it has.
    fn size(&self) -> usize {
        1 + self.settings.len() + self.references.len() + self.sections.iter().map(SettingsSection::size).sum::<usize>()
    }

    /// Whether it, or a section in it, takes over others.
    fn refers(&self) -> bool {
        !self.references.is_empty() || self.sections.iter().any(SettingsSection::refers)
    }

    /// The first words of all references.
    fn bases<'a>(&'a self, found: &mut Vec<&'a str>) {
        let here = self.references.iter().filter_map(|reference| reference.value.split('.').next());
        found.extend(here.filter(|name| !["connections", "secrets"].contains(name)));
        self.sections.iter().for_each(|section| section.bases(found));
    }

    /// Takes over another section of the same name: settings replace, sections extend.
    fn extend(&mut self, other: SettingsSection) {
        self.settings.extend(other.settings);
        self.references.extend(other.references);
        other.sections.into_iter().for_each(|inner| self.add(inner));
    }
}

/// Reads files with everything that they include and refer to: sections of one name in several of them are one. Total: what cannot be
/// read is reported and skipped.
pub(super) fn load(tree: &Tree, paths: &[&str], opened: &mut Opened) -> (SettingsSection, Vec<Finding>) {
    let mut findings = Vec::new();
    let mut root = SettingsSection::default();
    for path in paths {
        if tree.files.get(*path).is_some_and(|file| opened.enter(path, &file.text)) {
            root.extend(file(tree, path, opened, &mut findings));
            opened.leave();
        }
    }
    if root.refers() {
        let whole = root.clone();
        let mut referring = Referring { whole: &whole, budget: MAX_SECTIONS, findings: Vec::new(), told: HashSet::new() };
        referring.refer(&mut root, 0);
        findings.append(&mut referring.findings);
        if referring.budget == 0 {
            let path = paths.first().copied().unwrap_or_default();
            let message = format!("`{path}` and what its sections refer to is more than {MAX_SECTIONS} statements: the rest is not read");
            findings.push(Finding::new(&rules::TOO_MUCH, message).at(Place { file: path.into(), span: Span::default() }));
        }
        // What others take over says nothing by itself.
        let mut bases = Vec::new();
        whole.bases(&mut bases);
        let bases: HashSet<&str> = bases.into_iter().collect();
        root.retain(|section| !bases.contains(section.name.value.as_str()));
    }
    (root, findings)
}

/// More sections than any real file has come of references to references.
const MAX_SECTIONS: usize = 100_000;

fn file(tree: &Tree, path: &str, opened: &mut Opened, findings: &mut Vec<Finding>) -> SettingsSection {
    let Some(found) = tree.files.get(path) else { return SettingsSection::default() };
    let source = Source::new(path, found.text.as_str());
    let (mut root, syntax) = parse(&source);
    findings.extend(syntax);
    take_in(&mut root, tree, path, opened, findings);
    root
}

/// Puts included files where their statements stand, so that what comes later replaces what was before.
fn take_in(section: &mut SettingsSection, tree: &Tree, path: &str, opened: &mut Opened, findings: &mut Vec<Finding>) {
    for inner in &mut section.sections {
        take_in(inner, tree, path, opened, findings);
    }
    if section.includes.is_empty() {
        return;
    }
    let (settings, sections) = (std::mem::take(&mut section.settings), std::mem::take(&mut section.sections));
    section.named.clear();
    let mut includes = std::mem::take(&mut section.includes).into_iter().peekable();
    let (mut settings, mut sections) = (settings.into_iter().enumerate().peekable(), sections.into_iter().enumerate().peekable());
    loop {
        let bounds = includes.peek().map_or((usize::MAX, usize::MAX), |(_, settings, sections)| (*settings, *sections));
        let mut before = SettingsSection::default();
        while let Some((_, setting)) = settings.next_if(|(i, _)| *i < bounds.0) {
            before.settings.push(setting);
        }
        while let Some((_, inner)) = sections.next_if(|(i, _)| *i < bounds.1) {
            before.push(inner);
        }
        section.extend(before);
        let Some((pattern, ..)) = includes.next() else { return };
        let files = included(tree, path, &pattern.value);
        if files.is_empty() {
            let message = format!("`{}` includes no file", pattern.value);
            findings.push(Finding::new(&rules::DEVICE_UNKNOWN, message).at(pattern.place.clone()));
        }
        for name in files {
            if tree.files.get(&name).is_some_and(|file| opened.enter(&name, &file.text)) {
                section.extend(file(tree, &name, opened, findings));
                opened.leave();
            } else if !opened.is_given_up() {
                let message = format!("`{}` is included by itself", pattern.value);
                findings.push(Finding::new(&rules::DEVICE_VALUE, message).at(pattern.place.clone()));
            }
        }
    }
}

/// Takes over what references name, from a tree of sections as it was written.
struct Referring<'a> {
    whole: &'a SettingsSection,
    /// How many statements may still be copied.
    budget: usize,
    findings: Vec<Finding>,
    /// Where a reference leads nowhere: it is copied with its section, and told once.
    told: HashSet<Place>,
}

impl Referring<'_> {
    /// Spends so many statements; `false` if there are not so many left.
    fn spend(&mut self, count: usize) -> bool {
        steps(count);
        let left = self.budget.checked_sub(count);
        self.budget = left.unwrap_or(0);
        left.is_some()
    }

    /// Own settings go before those that are taken over.
    fn refer(&mut self, section: &mut SettingsSection, depth: usize) {
        if depth > MAX_DEPTH || !self.spend(1) {
            return;
        }
        for reference in std::mem::take(&mut section.references) {
            let found = reference.value.split('.').try_fold(self.whole, |at, name| at.section(name));
            let Some(base) = found else {
                if self.told.insert(reference.place.clone()) {
                    let message = format!("there is no section `{}`", reference.value);
                    self.findings.push(Finding::new(&rules::DEVICE_VALUE, message).at(reference.place));
                }
                continue;
            };
            // A copy of everything below it.
            if !self.spend(base.size()) {
                return;
            }
            let mut base = base.clone();
            self.refer(&mut base, depth + 1);
            // What the section says itself comes last, and so counts. It is put together anew with each reference.
            if !self.spend(base.size() + section.size()) {
                return;
            }
            let own = std::mem::replace(section, SettingsSection { name: section.name.clone(), ..base });
            section.extend(own);
        }
        for inner in &mut section.sections {
            self.refer(inner, depth + 1);
        }
    }
}

/// Quotes a value. The format has escapes for quotes and backslashes inside double quotes.
///
/// # Errors
/// Control characters: a line end would end the statement for some versions of the parser.
pub(super) fn quote(text: &str) -> Result<String, Unwritable> {
    if text.chars().any(char::is_control) {
        return Err(Unwritable::new("a control character in a value", "Remove it."));
    }
    Ok(format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\"")))
}

/// Reads a file. Total: what cannot be read is reported and skipped.
pub(super) fn parse(source: &Source) -> (SettingsSection, Vec<Finding>) {
    let mut parser = SettingsParser { source, text: source.text(), at: 0, findings: Vec::new(), depth: 0 };
    let mut root = SettingsSection::default();
    parser.body(&mut root, true);
    (root, parser.findings)
}

struct SettingsParser<'a> {
    source: &'a Source,
    text: &'a str,
    at: usize,
    findings: Vec<Finding>,
    depth: usize,
}

/// Deeper nesting than any real file has; the rest is skipped rather than recursed into.
const MAX_DEPTH: usize = 32;

impl SettingsParser<'_> {
    fn peek(&self) -> Option<char> {
        self.text[self.at..].chars().next()
    }

    fn skip(&mut self, blank: impl Fn(char) -> bool) {
        while let Some(byte) = self.text.as_bytes().get(self.at) {
            // Nearly all is of one byte.
            let c = if byte.is_ascii() { char::from(*byte) } else { self.peek().unwrap_or_default() };
            if !blank(c) {
                return;
            }
            self.at += c.len_utf8();
        }
    }

    fn skip_line(&mut self) {
        self.at += line_end(&self.text[self.at..]);
    }

    /// To the brace that closes what a brace opens here.
    fn skip_section(&mut self) {
        let mut depth = 0_usize;
        for (at, byte) in self.text.bytes().enumerate().skip(self.at) {
            match byte {
                b'{' => depth += 1,
                b'}' => depth -= 1,
                _ => {}
            }
            if depth == 0 {
                self.at = at + 1;
                return;
            }
        }
        self.at = self.text.len();
    }

    fn error(&mut self, start: usize, message: &str) {
        let place = self.source.place(Span { start, end: self.at.max(start) });
        self.findings.push(Finding::new(&rules::DEVICE_SYNTAX, message).at(place));
    }

    fn body(&mut self, section: &mut SettingsSection, top: bool) {
        loop {
            self.skip(char::is_whitespace);
            match self.peek() {
                None if top => return,
                None => return self.error(self.at, "a section is not closed: `}` is missing"),
                Some('#') => self.skip_line(),
                Some('}') => {
                    self.at += 1;
                    if !top {
                        return;
                    }
                    self.error(self.at - 1, "`}` closes no section");
                }
                Some(_) => self.statement(section),
            }
        }
    }

    fn located(&self, value: impl Into<String>, start: usize, end: usize) -> Word {
        Word { value: value.into(), place: self.source.place(Span { start, end }) }
    }

    fn word(&mut self) -> Word {
        let start = self.at;
        self.skip(|c| !matches!(c, '{' | '}' | '=' | '#' | '"' | ':' | ',') && !c.is_whitespace());
        self.located(&self.text[start..self.at], start, self.at)
    }

    /// Absolute names of sections, up to the brace.
    fn references(&mut self) -> Vec<Word> {
        let mut names = Vec::new();
        while self.peek().is_some_and(|c| c == ':' || c == ',') {
            self.at += 1;
            self.skip(char::is_whitespace);
            names.push(self.word());
            self.skip(char::is_whitespace);
        }
        names
    }

    fn statement(&mut self, section: &mut SettingsSection) {
        let start = self.at;
        let name = self.word();
        self.skip(|c| c == ' ' || c == '\t');
        if name.value == "include" && !matches!(self.peek(), Some('=' | '{' | ':')) {
            let pattern = self.value();
            section.includes.push((pattern, section.settings.len(), section.sections.len()));
            return;
        }
        let references = self.references();
        // The brace may stand on the next line.
        let after = self.at;
        self.skip(char::is_whitespace);
        if self.peek() != Some('{') {
            self.at = after;
        }
        match self.peek() {
            Some('=') if !name.value.is_empty() => {
                self.at += 1;
                let value = self.value();
                section.settings.push((name, value));
            }
            Some('{') if self.depth >= MAX_DEPTH => {
                self.skip_section();
                self.error(start, "sections within sections, deeper than any real file");
            }
            Some('{') => {
                self.at += 1;
                self.depth += 1;
                let mut inner = SettingsSection { name, references, ..SettingsSection::default() };
                self.body(&mut inner, false);
                self.depth -= 1;
                // Two of one name in one file are one.
                match section.section(&inner.name.value) {
                    Some(known) if inner.includes.is_empty() && known.includes.is_empty() => section.add(inner),
                    _ => section.push(inner),
                }
            }
            _ => {
                self.skip_line();
                self.error(start, "neither a setting nor a section");
            }
        }
    }

    fn value(&mut self) -> Word {
        self.skip(|c| c == ' ' || c == '\t');
        let start = self.at;
        if self.peek() == Some('"') {
            return self.quoted(start);
        }
        self.skip(|c| !matches!(c, '\n' | '#' | '{' | '}'));
        let text = self.text[start..self.at].trim_end();
        self.located(text, start, start + text.len())
    }

    fn quoted(&mut self, start: usize) -> Word {
        self.at += 1;
        let plain = self.text[self.at..].find(['"', '\\']).unwrap_or(0);
        let mut value = self.text[self.at..self.at + plain].to_owned();
        self.at += plain;
        let mut escaped = false;
        while let Some(c) = self.peek() {
            self.at += c.len_utf8();
            match (escaped, c) {
                (false, '"') => return self.located(value, start, self.at),
                (false, '\\') => {
                    escaped = true;
                    continue;
                }
                (true, 'n') => value.push('\n'),
                (true, 'r') => value.push('\r'),
                (true, 't') => value.push('\t'),
                (true, '\n') => {}
                _ => value.push(c),
            }
            escaped = false;
        }
        self.error(start, "a quote is not closed");
        self.located(value, start, self.at)
    }
}

/// The sections right below one of this name, as they stand in a text: name and bytes, from the name to the closing brace and the line end
/// behind that. Nothing of them where braces do not close.
pub(super) fn sections_of(text: &str, parent: &str) -> Vec<(String, Range<usize>)> {
    let mut found = Vec::new();
    let mut open: Vec<(&str, usize)> = Vec::new();
    // Where what may be a name begins.
    let (mut from, mut quoted, mut remark) = (0, false, false);
    for (at, c) in text.char_indices() {
        match c {
            '\n' if remark || !quoted => {
                // A name may stand above its brace, a setting not.
                if remark || text[from..at].contains('=') || text[from..at].trim().is_empty() {
                    from = at + 1;
                }
                (remark, quoted) = (false, quoted && !remark);
            }
            _ if remark => {}
            '"' => quoted = !quoted,
            _ if quoted => {}
            '#' => remark = true,
            '{' => {
                let whole = &text[from..at];
                let start = from + (whole.len() - whole.trim_start().len());
                open.push((whole.trim().split(':').next().unwrap_or_default().trim(), start));
                from = at + 1;
            }
            '}' => {
                let Some((name, start)) = open.pop() else { return Vec::new() };
                if let [(above, _)] = open.as_slice()
                    && *above == parent
                {
                    let rest = &text[at + 1..];
                    let blank = rest.len() - rest.trim_start_matches([' ', '\t']).len();
                    let end = at + 1 + if rest[blank..].starts_with('\n') { blank + 1 } else { 0 };
                    found.push((name.to_owned(), start..end));
                }
                from = at + 1;
            }
            _ => {}
        }
    }
    if open.is_empty() { found } else { Vec::new() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_section_is_found_with_its_braces() {
        let text = "# a { b\nconnections {\n  one : two {\n    x = \"}\" # }\n    y { z = 1 }\n  }\n  three\n  {\n  }\n}\nsecrets { ike-a { secret = q } ike-b { } }\n";
        let names =
            |parent: &str| sections_of(text, parent).into_iter().map(|(name, range)| (name, text[range].to_owned())).collect::<Vec<_>>();
        assert_eq!(
            names("connections"),
            [
                ("one".to_owned(), "one : two {\n    x = \"}\" # }\n    y { z = 1 }\n  }\n".to_owned()),
                ("three".to_owned(), "three\n  {\n  }\n".to_owned())
            ]
        );
        assert_eq!(names("secrets").len(), 2);
        assert!(sections_of("connections { a { ", "connections").is_empty() && sections_of("}", "connections").is_empty());
    }
    use proptest::prelude::*;

    fn read(text: &str) -> (SettingsSection, usize) {
        let (section, findings) = parse(&Source::new("f", text));
        (section, findings.len())
    }

    #[test]
    fn settings_sections_and_comments() {
        let (root, findings) = read("# c\na { b = c d # e\n f { g = \"x # y\" }\n}\n");
        assert_eq!(findings, 0);
        let a = root.section("a").expect("a");
        assert_eq!(a.get("b").map(|v| v.value.as_str()), Some("c d"));
        assert_eq!(a.section("f").and_then(|f| f.get("g")).map(|v| v.value.as_str()), Some("x # y"));
    }

    #[test]
    fn what_cannot_be_read_is_reported() {
        for text in ["a {", "}", "a = \"b", "= x", "a b c"] {
            assert_eq!(read(text).1, 1, "{text}");
        }
    }

    proptest! {
        #[test]
        fn quoting_round_trips(value in "[ -~äß#{}\"\\\\=]{1,40}") {
            let line = format!("k = {}\n", quote(&value).expect("no control characters"));
            let (root, findings) = read(&line);
            prop_assert_eq!(findings, 0);
            prop_assert_eq!(&root.get("k").expect("k").value, &value);
        }

        #[test]
        fn any_text_is_survived(text in "[ab{}=\"#\\\\\n :é]{0,200}") {
            let _ = read(&text);
        }
    }
}
