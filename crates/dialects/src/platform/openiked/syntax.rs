//! The grammar of iked.conf(5): statements of words, one a line, continued with `\`; `#` begins a comment.

use std::collections::BTreeMap;

use crate::dialect::Unwritable;
use uspan_model::finding::{self as rules, Finding};
use uspan_model::source::{Located, Source, Span};

/// Quotes a text. The grammar has no escapes that are safe for every version.
///
/// # Errors
/// Quotes, backslashes and control characters.
pub(super) fn quote(text: &str) -> Result<String, Unwritable> {
    if text.chars().any(|c| c.is_control() || c == '"' || c == '\\') {
        return Err(Unwritable::new("a quote, a backslash or a control character, which iked.conf cannot carry", "Remove it."));
    }
    Ok(format!("\"{text}\""))
}

/// The statements of a file, each as its words. Total: what cannot be read is reported and skipped.
pub(super) fn parse(source: &Source) -> (Vec<Vec<Located<String>>>, Vec<Finding>) {
    let (text, mut findings) = (source.text(), Vec::new());
    let mut statements = Vec::new();
    let mut words: Vec<Located<String>> = Vec::new();
    let mut at = 0;
    while let Some(c) = text[at..].chars().next() {
        match c {
            '\n' => {
                if !words.is_empty() {
                    statements.push(std::mem::take(&mut words));
                }
                at += 1;
            }
            '\\' if text[at + 1..].starts_with('\n') => at += 2,
            '#' => at += remark(&text[at..]),
            '"' => {
                let (word, length) = quoted_text(&text[at + 1..]);
                let Some(word) = word else {
                    findings.push(
                        Finding::new(&rules::DEVICE_SYNTAX, "a quote is not closed")
                            .at(source.place(Span { start: at, end: at + 1 + length })),
                    );
                    at += 1 + length;
                    continue;
                };
                words.push(Located::new(word, Span { start: at, end: at + length + 1 }));
                at += length + 1;
            }
            c if c.is_whitespace() => at += c.len_utf8(),
            '=' | ',' | '{' | '}' | '(' | ')' => {
                words.push(Located::new(c.to_string(), Span { start: at, end: at + 1 }));
                at += 1;
            }
            _ => {
                let stop = |c: char| c.is_whitespace() || "\"#=,{}()".contains(c);
                let length = text[at..].find(stop).unwrap_or(text.len() - at);
                words.push(Located::new(text[at..at + length].to_owned(), Span { start: at, end: at + length }));
                at += length;
            }
        }
    }
    if !words.is_empty() {
        statements.push(words);
    }
    (statements, findings)
}

/// What stands in quotes, up to those that close it, and the length of that with them; nothing where its line ends before. A backslash
/// keeps quotes and blanks, and lets the next line go on.
fn quoted_text(text: &str) -> (Option<String>, usize) {
    let mut word = String::new();
    let mut chars = text.char_indices().peekable();
    while let Some((at, c)) = chars.next() {
        match (c, chars.peek().map(|(_, next)| *next)) {
            ('"', _) => return (Some(word), at + 1),
            ('\n', _) => return (None, at),
            ('\\', Some('\n')) => drop(chars.next()),
            ('\\', Some(next @ ('"' | ' ' | '\t'))) => {
                word.push(next);
                chars.next();
            }
            _ => word.push(c),
        }
    }
    (None, text.len())
}

/// What stands between the items of parts that come several times; no item has one.
pub(super) const BETWEEN: &str = ",";

/// What a keyword of a policy takes along.
enum Takes {
    /// Nothing.
    Nothing,
    /// One word.
    Word,
    /// Two networks, with `to` between them or without, each with a port or without.
    Networks,
    /// A kind of value, and that.
    Two,
    /// A word, or several in braces.
    Several,
    /// A time, and behind `bytes` an amount.
    Life,
    /// Kinds of transforms, each with a word.
    Transforms,
}

impl Takes {
    /// Of a keyword; one that is not known stands alone.
    fn of(keyword: &str) -> Takes {
        match keyword {
            "local" | "peer" | "srcid" | "dstid" | "ikelifetime" | "psk" | "rdomain" | "eap" | "iface" | "tag" | "tap" => Takes::Word,
            "proto" => Takes::Several,
            "lifetime" => Takes::Life,
            "config" | "request" => Takes::Two,
            "from" | "to" => Takes::Networks,
            "ikesa" | "childsa" => Takes::Transforms,
            _ => Takes::Nothing,
        }
    }
}

/// A part of a policy: its keyword and what that takes along.
pub(super) struct Part<'a> {
    pub(super) keyword: &'a Located<String>,
    pub(super) words: Vec<&'a Located<String>>,
    /// Whether all that it takes is there.
    pub(super) is_whole: bool,
    /// Whether it says more than is taken: a translation.
    pub(super) more: bool,
    /// The ports to which its networks are limited, local and remote, as they are written.
    pub(super) ports: [Option<&'a Located<String>>; 2],
}

impl Part<'_> {
    /// Whether it may come several times.
    pub(super) fn repeats(&self) -> bool {
        matches!(Takes::of(&self.keyword.value), Takes::Networks | Takes::Transforms)
    }

    /// From its keyword to its last word.
    pub(super) fn span(&self) -> Span {
        Span { start: self.keyword.span.start, end: self.words.last().map_or(self.keyword.span.end, |word| word.span.end) }
    }

    /// What it takes along, as one text; the keyword itself where that stands alone.
    pub(super) fn text(&self) -> String {
        let words: Vec<_> = self.words.iter().map(|word| word.value.as_str()).collect();
        match (Takes::of(&self.keyword.value), words.as_slice()) {
            // Those that begin with the peer's are turned round.
            (Takes::Networks, [from, to]) if self.keyword.value == "to" => format!("{to} to {from}"),
            (Takes::Networks, [from, to]) => format!("{from} to {to}"),
            (Takes::Life, [time, ..]) => (*time).to_owned(),
            (Takes::Nothing, _) => self.keyword.value.clone(),
            _ => words.join(" "),
        }
    }
}

/// The parts of a policy, behind its name.
pub(super) fn parts(words: &[Located<String>]) -> Vec<Part<'_>> {
    const KINDS: &[&str] = &["enc", "auth", "prf", "group"];
    const ALONE: &[&str] = &["esn", "noesn"];
    let (mut parts, mut at) = (Vec::new(), 0);
    let is = |at: usize, wanted: &[&str]| words.get(at).is_some_and(|word: &Located<String>| wanted.contains(&word.value.as_str()));
    while let Some(keyword) = words.get(at) {
        at += 1;
        let (mut taken, mut more, mut ports) = (Vec::new(), false, [None, None]);
        let is_whole = match Takes::of(&keyword.value) {
            Takes::Nothing => true,
            Takes::Word => {
                taken.extend(words.get(at));
                at += taken.len();
                taken.len() == 1
            }
            Takes::Two => {
                taken.extend(words.iter().skip(at).take(2));
                at += taken.len();
                taken.len() == 2
            }
            Takes::Several if is(at, &["{"]) => {
                let end = words.iter().skip(at).position(|word| word.value == "}").map_or(words.len(), |end| at + end);
                taken.extend(words[at + 1..end].iter().filter(|word| word.value != ","));
                at = (end + 1).min(words.len());
                true
            }
            Takes::Several => {
                taken.extend(words.get(at));
                at += taken.len();
                taken.len() == 1
            }
            Takes::Life => {
                taken.extend(words.get(at));
                at += taken.len();
                if is(at, &["bytes"]) {
                    taken.extend(words.get(at + 1));
                    at += 2;
                }
                !taken.is_empty()
            }
            Takes::Networks => {
                // A network may be translated from another one, in brackets, and limited to a port: what is more than that is kept.
                let network = |at: &mut usize| -> (Vec<&Located<String>>, Option<&Located<String>>) {
                    let mut own: Vec<&Located<String>> = words.get(*at).into_iter().collect();
                    let mut port = None;
                    *at += 1;
                    if is(*at, &["("]) {
                        own.extend(words.iter().skip(*at).take(3));
                        *at += 3;
                    }
                    if is(*at, &["port"]) {
                        port = words.get(*at + 1);
                        // One that is missing is none that is understood.
                        own.extend(words.get(*at).filter(|_| port.is_none()));
                        *at += 2;
                    }
                    (own, port)
                };
                let (first, near) = network(&mut at);
                at += usize::from(is(at, &["to", "from"]));
                let (second, far) = network(&mut at);
                ports = if keyword.value == "to" { [far, near] } else { [near, far] };
                at = at.min(words.len());
                more = first.len() != 1 || second.len() != 1;
                taken.extend(first.first().into_iter().chain(second.first()).copied());
                taken.len() == 2
            }
            Takes::Transforms => {
                while is(at, KINDS) || is(at, ALONE) {
                    let count = if is(at, ALONE) { 1 } else { 2 };
                    taken.extend(words.iter().skip(at).take(count));
                    at += count;
                }
                true
            }
        };
        parts.push(Part { keyword, words: taken, is_whole, more, ports });
    }
    parts
}

/// Keywords of a policy in the order in which they may stand, each row once; or, where that is said, several times. The daemon refuses
/// the file if they stand otherwise (found with `iked -n` of 7.2; parse.y has no other order).
const ORDER: [(&[&str], Several); 20] = [
    (&["quick", "skip", "default"], Several::No),
    (&["active", "passive"], Several::No),
    (&["ipcomp"], Several::No),
    (&["tunnel", "transport"], Several::No),
    (&["esp", "ah"], Several::No),
    (&["inet", "inet6"], Several::No),
    (&["proto"], Several::No),
    (&["rdomain"], Several::No),
    (&["from", "to"], Several::Yes),
    (&["local", "peer"], Several::OfEachOne),
    (&["ikesa"], Several::Yes),
    (&["childsa"], Several::Yes),
    (&["srcid"], Several::No),
    (&["dstid"], Several::No),
    (&["ikelifetime"], Several::No),
    (&["lifetime"], Several::No),
    (&["psk", "eap", "rsa", "ecdsa256", "ecdsa384", "ecdsa521", "rfc7427"], Several::No),
    (&["config", "request"], Several::Yes),
    (&["iface"], Several::No),
    (&["tag", "tap"], Several::Yes),
];

/// How often keywords of a row may stand.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Several {
    /// One of them, once.
    No,
    /// Each of them, once.
    OfEachOne,
    /// As often as one likes.
    Yes,
}

/// Parts that stand where the daemon does not take them, each with the keyword that it must not stand behind.
pub(super) fn misplaced<'a>(parts: &'a [Part<'a>]) -> Vec<(&'a Part<'a>, &'a str)> {
    let mut found = Vec::new();
    // The row that was reached, and its keywords so far.
    let (mut reached, mut here): (usize, Vec<&str>) = (0, Vec::new());
    for part in parts {
        let keyword = part.keyword.value.as_str();
        let Some(row) = ORDER.iter().position(|(words, _)| words.contains(&keyword)) else { continue };
        let fits = match ORDER[row].1 {
            _ if row != reached => row > reached,
            Several::Yes => true,
            Several::OfEachOne => !here.contains(&keyword),
            Several::No => here.is_empty(),
        };
        match here.last() {
            Some(before) if !fits => found.push((part, *before)),
            _ => {
                if row != reached {
                    here.clear();
                }
                reached = row;
                // As many as the daemon takes: what comes again is known.
                if !here.contains(&keyword) {
                    here.push(keyword);
                }
            }
        }
    }
    found
}

/// The length of a remark: to the end of its line, and where a backslash stands before that, of the next one too.
fn remark(text: &str) -> usize {
    let mut escaped = false;
    let end = text.bytes().position(|byte| {
        let ends = byte == b'\n' && !escaped;
        escaped = byte == b'\\' && !escaped;
        ends
    });
    end.unwrap_or(text.len())
}

/// Macros by name, each as its words.
pub(super) type Macros = BTreeMap<String, Vec<String>>;

/// More words than any macro has.
const MOST_WORDS: usize = 1000;

/// Takes a statement that defines a macro, `name = value`, and says whether it was one.
pub(super) fn define(text: &str, words: &[Located<String>], macros: &mut Macros) -> bool {
    let [name, equals, value @ ..] = words else { return false };
    if equals.value != "=" || quoted(text, equals) || quoted(text, name) {
        return false;
    }
    let mut list = Vec::new();
    for word in expand(text, value, macros) {
        // What stands in quotes is read again where the macro is used.
        match text[word.span.start..].starts_with('"') {
            true => list.extend(parse(&Source::new("", word.value)).0.into_iter().flatten().map(|inner| inner.value)),
            false => list.push(word.value),
        }
    }
    // Macros of macros grow fast.
    list.truncate(MOST_WORDS);
    macros.insert(name.value.clone(), list);
    true
}

/// Puts the values of macros where their names stand, outside of quotes.
pub(super) fn expand(text: &str, words: &[Located<String>], macros: &Macros) -> Vec<Located<String>> {
    let each = words.iter().flat_map(|word| match word.value.strip_prefix('$').filter(|_| !quoted(text, word)) {
        Some(name) if macros.contains_key(name) => macros[name].iter().map(|value| Located::new(value.clone(), word.span)).collect(),
        _ => vec![word.clone()],
    });
    each.collect()
}

fn quoted(text: &str, word: &Located<String>) -> bool {
    text[word.span.start..].starts_with('"')
}

#[cfg(test)]
mod tests {
    use super::*;

    fn words(text: &str) -> Vec<Vec<String>> {
        let (statements, _) = parse(&Source::new("x", text));
        statements.into_iter().map(|words| words.into_iter().map(|word| word.value).collect()).collect()
    }

    #[test]
    fn statements_are_lines_unless_continued() {
        assert_eq!(words("a b # c\n\n d \"e f\" \\\n\tg\n"), [vec!["a", "b"], vec!["d", "e f", "g"]]);
    }

    #[test]
    fn a_remark_that_ends_in_a_backslash_takes_the_next_line_along() {
        assert_eq!(words("# x \\\na b\nc\n"), [vec!["c"]]);
        assert_eq!(words("# x \\\\\na b\n"), [vec!["a", "b"]]);
        assert_eq!(words("# x \\"), Vec::<Vec<String>>::new());
    }

    #[test]
    fn an_open_quote_is_reported_and_ends_with_its_line() {
        let source = Source::new("x", "a \"b\nc");
        let (statements, findings) = parse(&source);
        assert_eq!((statements.len(), findings.len()), (2, 1));
    }

    #[test]
    fn what_the_grammar_cannot_carry_is_refused() {
        assert_eq!(quote("a b").expect("plain"), "\"a b\"");
        for text in ["a\"b", "a\\b", "a\nb"] {
            assert!(quote(text).is_err(), "{text}");
        }
    }
}
