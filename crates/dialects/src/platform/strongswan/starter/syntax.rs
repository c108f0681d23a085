//! The format of ipsec.conf(5) as the starter of 5.9.8 takes it: sections, indented settings, values of words or in quotes.

use std::collections::HashMap;

use super::MAIN;
use crate::text::{Opened, Word, included};
use uspan_model::finding::{self as rules, Finding};
use uspan_model::gateway::Tree;
use uspan_model::source::{Place, Source, Span};

/// A connection, with what it takes over from others and from the defaults.
#[derive(Clone, Debug)]
pub(super) struct StarterConnection {
    pub name: Word,
    /// Keywords in their current spelling, each once.
    pub settings: Vec<(Word, Word)>,
}

impl StarterConnection {
    pub(super) fn get(&self, keyword: &str) -> Option<&Word> {
        self.settings.iter().find(|(known, _)| known.value == keyword).map(|(_, value)| value)
    }

    /// The same with its two ends exchanged.
    pub(super) fn turned(mut self) -> StarterConnection {
        for (keyword, _) in &mut self.settings {
            let turned = match (keyword.value.strip_prefix("left"), keyword.value.strip_prefix("right")) {
                (Some(rest), _) => ["right", rest].concat(),
                (_, Some(rest)) => ["left", rest].concat(),
                _ => continue,
            };
            keyword.value = turned;
        }
        self
    }
}

/// What the files say.
pub(super) struct LoadedStarter {
    pub connections: Vec<StarterConnection>,
    /// What is said for the whole daemon.
    pub setup: Vec<(Word, Word)>,
    /// For what the starter takes nothing of all this.
    pub broken: Option<Place>,
    pub findings: Vec<Finding>,
}

/// Keywords that say the same as others.
const ALIASES: [(&str, &str); 6] = [
    ("keylife", "lifetime"),
    ("rekeymargin", "margintime"),
    ("leftsubnetwithin", "leftsubnet"),
    ("rightsubnetwithin", "rightsubnet"),
    ("leftrsasigkey", "leftsigkey"),
    ("rightrsasigkey", "rightsigkey"),
];

/// The section whose settings hold where a connection says nothing.
const DEFAULTS: &str = "%default";

/// Deeper than anybody lets sections take over each other.
const DEEPEST: usize = 64;

/// A section as it stands in the files: of two of one name all settings.
#[derive(Default)]
struct Stated {
    name: Word,
    settings: Vec<(Word, Word)>,
    /// Their places in the list, by keyword.
    places: HashMap<String, usize>,
    also: Vec<Word>,
}

impl Stated {
    fn set(&mut self, keyword: Word, value: Word) {
        match self.places.get(&keyword.value) {
            // The last one counts.
            Some(at) => self.settings[*at] = (keyword, value),
            None => {
                self.places.insert(keyword.value.clone(), self.settings.len());
                self.settings.push((keyword, value));
            }
        }
    }
}

/// What settings belong to.
#[derive(Clone, Copy)]
enum Current {
    Nothing,
    Setup,
    Connection(usize),
    /// An authority: those that stand in their folder count by themselves.
    Authority,
}

struct Loading<'a> {
    tree: &'a Tree,
    opened: Opened,
    connections: Vec<Stated>,
    by_name: HashMap<String, usize>,
    setup: Stated,
    current: Current,
    broken: Option<Place>,
    findings: Vec<Finding>,
}

/// Reads the main file and what it includes.
pub(super) fn load(tree: &Tree) -> LoadedStarter {
    let mut loading = Loading {
        tree,
        opened: Opened::of(tree),
        connections: Vec::new(),
        by_name: HashMap::new(),
        setup: Stated::default(),
        current: Current::Nothing,
        broken: None,
        findings: Vec::new(),
    };
    loading.file(MAIN);
    let connections = loading.whole();
    loading.findings.extend(loading.opened.finding());
    LoadedStarter { connections, setup: loading.setup.settings, broken: loading.broken, findings: loading.findings }
}

impl Loading<'_> {
    fn file(&mut self, path: &str) {
        let Some(file) = self.tree.files.get(path).filter(|file| self.opened.enter(path, &file.text)) else { return };
        let source = Source::new(path, file.text.as_str());
        let mut at = 0;
        while at < file.text.len() {
            let (statement, end) = statement(&file.text, at);
            let place = || source.place(Span { start: at, end: at + file.text[at..end].trim_end().len() });
            match statement {
                Ok(StarterStatement::Blank) => {}
                Ok(StarterStatement::Include(pattern)) => {
                    for name in included(self.tree, path, &pattern) {
                        if self.opened.has(&name) {
                            let message = format!("`{pattern}` is included by itself");
                            self.findings.push(Finding::new(&rules::DEVICE_VALUE, message).at(place()));
                        } else {
                            self.file(&name);
                        }
                    }
                }
                Ok(StarterStatement::Setup) => self.current = Current::Setup,
                Ok(StarterStatement::Authority) => self.current = Current::Authority,
                Ok(StarterStatement::Connection(name)) => {
                    self.current = Current::Connection(self.section(Word { value: name, place: place() }));
                }
                Ok(StarterStatement::Setting(keyword, value)) => self.setting(keyword, value, place()),
                Err(why) => self.break_off(why.to_owned(), place()),
            }
            at = end;
        }
        self.opened.leave();
    }

    fn break_off(&mut self, why: String, place: Place) {
        self.findings.push(Finding::new(&rules::DEVICE_SYNTAX, why).at(place.clone()));
        self.broken.get_or_insert(place);
    }

    fn section(&mut self, name: Word) -> usize {
        let next = self.connections.len();
        let at = *self.by_name.entry(name.value.clone()).or_insert(next);
        if at == next {
            self.connections.push(Stated { name, ..Stated::default() });
        }
        at
    }

    fn setting(&mut self, keyword: String, value: String, place: Place) {
        let section = match self.current {
            // What stands before the first section is not used.
            Current::Nothing | Current::Authority => return,
            Current::Setup => &mut self.setup,
            Current::Connection(at) => &mut self.connections[at],
        };
        let value = Word { value, place: place.clone() };
        if keyword == "also" {
            if !value.value.is_empty() && value.value != DEFAULTS {
                section.also.push(value);
            }
            return;
        }
        let current = ALIASES.iter().find(|(old, _)| *old == keyword).map_or(keyword.as_str(), |(_, current)| current);
        let end = place.span.start + keyword.len();
        let keyword = Word { value: current.to_owned(), place: Place { span: Span { end, ..place.span }, ..place } };
        section.set(keyword, value);
    }

    /// The connections, each with what it takes over.
    fn whole(&mut self) -> Vec<StarterConnection> {
        let mut whole = Vec::new();
        for at in 0..self.connections.len() {
            if self.connections[at].name.value == DEFAULTS {
                continue;
            }
            let order = self.order(at);
            let mut settings: Vec<(Word, Word)> = Vec::new();
            let mut known = HashMap::new();
            for (keyword, value) in order.into_iter().flat_map(|of| &self.connections[of].settings) {
                let size = keyword.value.len() + value.value.len();
                if known.contains_key(&keyword.value) || !self.opened.afford(&keyword.place.file, size) {
                    continue;
                }
                known.insert(&keyword.value, ());
                // Without a value a setting is as if it were not there, and what is taken over does not say it either.
                if !value.value.is_empty() {
                    settings.push((keyword.clone(), value.clone()));
                }
            }
            whole.push(StarterConnection { name: self.connections[at].name.clone(), settings });
        }
        whole
    }

    /// The sections that a connection consists of, the most important first: itself, what it names last, what that takes over; of those
    /// that come several times the last. The defaults come at the end.
    fn order(&mut self, at: usize) -> Vec<usize> {
        let mut order = Vec::new();
        self.linearized(at, &mut Vec::new(), &mut order);
        order.extend(self.by_name.get(DEFAULTS));
        let mut last = Vec::new();
        for section in order.into_iter().rev() {
            if !last.contains(&section) {
                last.push(section);
            }
        }
        last.reverse();
        last
    }

    fn linearized(&mut self, at: usize, above: &mut Vec<usize>, order: &mut Vec<usize>) {
        order.push(at);
        above.push(at);
        for wanted in self.connections[at].also.clone().into_iter().rev() {
            if !self.opened.afford(&wanted.place.file, wanted.value.len() + order.len()) {
                break;
            }
            match self.by_name.get(&wanted.value).copied() {
                Some(parent) if !above.contains(&parent) && above.len() < DEEPEST => self.linearized(parent, above, order),
                Some(_) => self.break_off(format!("`{}` takes over itself", wanted.value), wanted.place),
                None => self.break_off(format!("there is no section `{}`", wanted.value), wanted.place),
            }
        }
        above.pop();
    }
}

/// A statement.
#[derive(Debug, PartialEq)]
enum StarterStatement {
    Blank,
    Include(String),
    Setup,
    Authority,
    Connection(String),
    Setting(String, String),
}

/// A word of a statement, an equals sign, or its end.
#[derive(Debug, PartialEq)]
enum StarterToken {
    Text(String),
    Equals,
    End,
}

/// Reads the statement that begins at a place, which is the first of a line, and says where the next one begins.
fn statement(text: &str, start: usize) -> (Result<StarterStatement, &'static str>, usize) {
    let line = &text[start..];
    let bare = line.trim_start_matches([' ', '\t']);
    let indented = bare.len() < line.len();
    let mut at = start + (line.len() - bare.len());
    let line_end = at + memchr::memchr(b'\n', bare.as_bytes()).unwrap_or(bare.len());
    let next = (line_end + 1).min(text.len());
    // A version says nothing any more.
    if bare.starts_with("version") {
        return (Ok(StarterStatement::Blank), next);
    }
    if let Some(rest) = bare.strip_prefix("include").filter(|rest| rest.starts_with([' ', '\t'])) {
        let rest = &rest[..memchr::memchr(b'\n', rest.as_bytes()).unwrap_or(rest.len())];
        let pattern = rest.trim_start_matches([' ', '\t']);
        let pattern = match pattern.strip_prefix('"') {
            Some(quoted) => quoted.split('"').next().unwrap_or_default(),
            None => pattern.split(['#', ' ', '\t']).next().unwrap_or_default(),
        };
        if !pattern.starts_with('=') {
            return (Ok(StarterStatement::Include(pattern.replace('\\', ""))), next);
        }
    }
    // Two words are one token.
    const SETUP: &str = "config setup";
    let setup = !indented && bare.strip_prefix(SETUP).is_some_and(|rest| rest.is_empty() || rest.starts_with([' ', '\t', '\r', '\n', '#']));
    if setup {
        at += SETUP.len();
    }
    let mut tokens = Vec::new();
    loop {
        match token(text, &mut at) {
            Ok(StarterToken::End) => break,
            Ok(token) => tokens.push(token),
            Err(why) => return (Err(why), next.max(at)),
        }
    }
    let next = (at + 1).min(text.len());
    let said = match (indented, setup, tokens.as_slice()) {
        (false, true, _) => Ok(StarterStatement::Setup),
        (_, _, []) => Ok(StarterStatement::Blank),
        (false, _, [StarterToken::Text(kind)]) if kind == "conn" || kind == "ca" => Err("a section without a name"),
        (false, _, [StarterToken::Text(kind), StarterToken::Text(name)]) if kind == "conn" => {
            Ok(StarterStatement::Connection(name.clone()))
        }
        (false, _, [StarterToken::Text(kind), StarterToken::Text(_)]) if kind == "ca" => Ok(StarterStatement::Authority),
        (false, ..) => Err("neither a section nor a setting; settings are indented"),
        (true, _, [StarterToken::Text(keyword), StarterToken::Equals, value @ ..]) if !keyword.is_empty() => {
            let words = value.iter().map(|token| if let StarterToken::Text(word) = token { Some(word.as_str()) } else { None });
            match words.collect::<Option<Vec<_>>>() {
                Some(words) => Ok(StarterStatement::Setting(keyword.clone(), words.join(" "))),
                None => Err("a second equals sign: a value that has one stands in quotes"),
            }
        }
        (true, ..) => Err("not a setting: `=` is missing"),
    };
    (said, next)
}

/// The next token of a statement.
fn token(text: &str, at: &mut usize) -> Result<StarterToken, &'static str> {
    let rest = text[*at..].trim_start_matches([' ', '\t', '\r']);
    *at = text.len() - rest.len();
    let bytes = rest.as_bytes();
    match bytes.first() {
        None | Some(b'\n') => return Ok(StarterToken::End),
        Some(b'#') => {
            *at += memchr::memchr(b'\n', bytes).unwrap_or(bytes.len());
            return Ok(StarterToken::End);
        }
        Some(b'=') => {
            *at += 1;
            return Ok(StarterToken::Equals);
        }
        Some(b'"') => return quoted(text, at),
        Some(_) => {}
    }
    // An identity of bytes begins so.
    let begin = if rest.starts_with("@#") { 2 } else { 0 };
    let length = rest[begin..].find(['"', '#', '=', ' ', '\t', '\r', '\n']).map_or(rest.len(), |end| begin + end);
    *at += length;
    Ok(StarterToken::Text(rest[..length].to_owned()))
}

/// A text in quotes, which may go on in the next line.
fn quoted(text: &str, at: &mut usize) -> Result<StarterToken, &'static str> {
    let mut said = String::new();
    let mut chars = text[*at + 1..].char_indices();
    while let Some((offset, c)) = chars.next() {
        match c {
            '"' => {
                *at += offset + 2;
                return Ok(StarterToken::Text(said));
            }
            '\\' => match chars.next().map(|(_, c)| c) {
                Some('n') => said.push('\n'),
                Some('r') => said.push('\r'),
                Some('t') => said.push('\t'),
                Some('\n') => {}
                Some(c) => said.push(c),
                None => break,
            },
            c => said.push(c),
        }
    }
    *at = text.len();
    Err("a quote is not closed")
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use uspan_model::gateway::TreeFile;

    fn loaded(text: &str) -> LoadedStarter {
        let mut tree = Tree::default();
        tree.add(MAIN, TreeFile::public(text.to_owned()));
        load(&tree)
    }

    fn said(text: &str, name: &str) -> Vec<(String, String)> {
        let loaded = loaded(text);
        assert!(loaded.broken.is_none(), "{text}");
        let of = loaded.connections.into_iter().find(|one| one.name.value == name).expect("the connection");
        let mut settings: Vec<_> = of.settings.into_iter().map(|(keyword, value)| (keyword.value, value.value)).collect();
        settings.sort();
        settings
    }

    #[test]
    fn values_are_words_or_quoted() {
        let text = "config setup\n\n# r\nconn a # r\n\tb=c  d#e\n  f = \"C=CH, O=x\"\n\tg=\"h\\\n i\"\n\tj=@#6b\n\tk=\n";
        let pair = |key: &str, value: &str| (key.to_owned(), value.to_owned());
        assert_eq!(said(text, "a"), [pair("b", "c d"), pair("f", "C=CH, O=x"), pair("g", "h i"), pair("j", "@#6b")]);
    }

    #[test]
    fn what_is_named_last_comes_first() {
        let text = "conn %default\n\tx=d\n\tw=d\nconn a\n\tx=a\n\ty=a\nconn b\n\ty=b\n\tz=b\nconn c\n\talso=a\n\talso=b\n\tz=\n";
        let pair = |key: &str, value: &str| (key.to_owned(), value.to_owned());
        assert_eq!(said(text, "c"), [pair("w", "d"), pair("x", "a"), pair("y", "b")]);
    }

    #[test]
    fn what_the_parser_refuses_takes_everything_with_it() {
        for text in [
            "x\n",
            "conn\n",
            "conn a b\n",
            "conn a\n\tb\n",
            "conn a\n\tb=c=d\n",
            "conn a\n\tb=\"c\n",
            "conn a\n\talso=z\n",
            "conn a\n\talso=a\n",
        ] {
            assert!(loaded(text).broken.is_some(), "{text}");
        }
    }

    proptest! {
        #[test]
        fn any_text_is_survived(text in "[conas =\"#\\\\\t\n:é%]{0,200}") {
            let _ = loaded(&text);
        }
    }
}
