//! Blocks and statements of a ruleset, as nft(8) describes them: enough structure to keep every
//! statement with its place; what a statement means is the reader's affair.

use crate::text::line_end;
use uspan_model::finding::{self as rules, Finding};
use uspan_model::source::{Source, Span};

/// A statement: its words, and the block behind it if it opens one.
#[derive(Debug)]
pub(super) struct NftStatement<'a> {
    pub words: Vec<&'a str>,
    pub span: Span,
    pub block: Vec<NftStatement<'a>>,
}

/// Reads a file. Total: an unbalanced brace is reported.
pub(super) fn parse<'a>(source: &'a Source, findings: &mut Vec<Finding>) -> Vec<NftStatement<'a>> {
    let mut parser = NftParser { text: source.text(), at: 0, depth: 0 };
    let statements = parser.block(Within::File);
    if parser.at < source.text().len() || parser.depth > 0 {
        let at = parser.at.min(source.text().len());
        findings.push(Finding::new(&rules::DEVICE_SYNTAX, "a brace is not balanced").at(source.place(Span { start: at, end: at })));
    }
    statements
}

struct NftParser<'a> {
    text: &'a str,
    at: usize,
    depth: usize,
}

const MAX_DEPTH: usize = 16;
/// As many words as most statements have.
const ROOM: usize = 16;
/// As many statements as most blocks have.
const STATEMENTS: usize = 6;

/// Bytes at which a word ends, or at which a character begins that has to be looked at as such.
const STOPS: [bool; 256] = {
    let mut stops = [false; 256];
    let mut byte = 0;
    while byte < stops.len() {
        stops[byte] = byte >= 0x80 || matches!(byte as u8, b'{' | b'}' | b';' | b',' | b'#' | b'"' | b'\\' | b' ' | b'\t'..=b'\r');
        byte += 1;
    }
    stops
};

fn ends_word(c: char) -> bool {
    u8::try_from(c).ok().filter(u8::is_ascii).map_or_else(|| c.is_whitespace(), |byte| STOPS[usize::from(byte)])
}

/// What a block is inside of.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Within {
    File,
    NftTable,
    /// A chain, or the properties of something: a brace there is a set's.
    Rules,
}

/// Whether a brace behind these words opens a block of statements.
fn opens_block(words: &[&str], within: Within) -> bool {
    match (within, words) {
        (Within::File, ["add" | "create", what, ..] | [what, ..]) => {
            matches!(*what, "table" | "chain" | "set" | "map" | "flowtable" | "counter" | "quota")
        }
        (Within::NftTable, [first, ..]) => *first != "elements",
        _ => false,
    }
}

impl<'a> NftParser<'a> {
    fn rest(&self) -> &'a str {
        &self.text[self.at..]
    }

    fn block(&mut self, within: Within) -> Vec<NftStatement<'a>> {
        let mut statements = Vec::with_capacity(if within == Within::File { 0 } else { STATEMENTS });
        let mut current: Vec<&'a str> = Vec::new();
        let mut start = self.at;
        let mut sets = 0;
        while let Some(byte) = self.text.as_bytes().get(self.at).copied() {
            match byte {
                b' ' | b'\t' | b',' => self.at += 1,
                b'#' => self.at += line_end(self.rest()),
                b'\n' | b';' if sets == 0 => {
                    self.finish(&mut statements, &mut current, start, Vec::new());
                    self.at += 1;
                }
                b'{' if self.depth < MAX_DEPTH && opens_block(&current, within) => {
                    self.at += 1;
                    self.depth += 1;
                    let table = current.iter().take(2).any(|word| *word == "table");
                    let block = self.block(if table { Within::NftTable } else { Within::Rules });
                    self.finish(&mut statements, &mut current, start, block);
                }
                b'}' if sets == 0 => {
                    self.finish(&mut statements, &mut current, start, Vec::new());
                    if self.depth > 0 {
                        self.depth -= 1;
                        self.at += 1;
                    }
                    return statements;
                }
                // A line goes on behind a backslash, and within a set; the others are white space, too.
                b'\\' | b'\n' | b'\r' | b'\x0b' | b'\x0c' => self.at += 1,
                0x80.. if self.rest().starts_with(char::is_whitespace) => {
                    self.at += self.rest().chars().next().map_or(1, char::len_utf8);
                }
                _ => {
                    if current.is_empty() {
                        start = self.at;
                        current.reserve(ROOM);
                    }
                    sets = match byte {
                        b'{' => sets + 1,
                        b'}' => sets - 1,
                        _ => sets,
                    };
                    current.push(self.word(byte));
                }
            }
        }
        self.finish(&mut statements, &mut current, start, Vec::new());
        statements
    }

    fn word(&mut self, first: u8) -> &'a str {
        let rest = self.rest();
        let length = match first {
            b'{' | b'}' => 1,
            b'"' => rest[1..].find('"').map_or(rest.len(), |end| end + 2),
            _ => match rest.bytes().position(|byte| STOPS[usize::from(byte)]) {
                Some(at) if !rest.as_bytes()[at].is_ascii() => rest.find(ends_word).unwrap_or(rest.len()),
                end => end.unwrap_or(rest.len()),
            },
        };
        self.at += length.max(1);
        &rest[..length]
    }

    fn finish(&self, statements: &mut Vec<NftStatement<'a>>, current: &mut Vec<&'a str>, start: usize, block: Vec<NftStatement<'a>>) {
        if !current.is_empty() {
            statements.push(NftStatement { words: std::mem::take(current), span: Span { start, end: self.at }, block });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn blocks_sets_and_comments() {
        let source = Source::new("f", "table inet a { # c\n chain b {\n type x; policy y;\n udp dport { 1, 2 } accept\n }\n}\n");
        let mut findings = Vec::new();
        let root = parse(&source, &mut findings);
        assert!(findings.is_empty());
        assert_eq!(root[0].words, ["table", "inet", "a"]);
        let chain = &root[0].block[0];
        assert_eq!(chain.block[2].words, ["udp", "dport", "{", "1", "2", "}", "accept"]);
    }

    proptest! {
        #[test]
        fn any_text_is_survived(text in "[tablechin {}\"#;\n,é]{0,200}") {
            let source = Source::new("f", text);
            let _ = parse(&source, &mut Vec::new());
        }
    }
}
