//! The settings format of strongswan.conf(5): sections, settings, comments, quoting.

use crate::finding::{self as rules, Finding};
use crate::platform::Unwritable;
use crate::source::{Located, Source, Span};

/// A section with everything in it, in the order of the file.
#[derive(Debug, Default)]
pub(super) struct Section {
    pub name: Located0,
    pub settings: Vec<(Located<String>, Located<String>)>,
    pub sections: Vec<Section>,
}

/// A section's name and place.
#[derive(Debug, Default)]
pub(super) struct Located0 {
    pub value: String,
    pub span: Span,
}

impl Section {
    pub(super) fn section(&self, name: &str) -> Option<&Section> {
        self.sections.iter().find(|section| section.name.value == name)
    }

    pub(super) fn get(&self, key: &str) -> Option<&Located<String>> {
        self.settings.iter().find(|(name, _)| name.value == key).map(|(_, value)| value)
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
pub(super) fn parse(source: &Source) -> (Section, Vec<Finding>) {
    let mut parser = Parser { source, text: source.text(), at: 0, findings: Vec::new(), depth: 0 };
    let mut root = Section::default();
    parser.body(&mut root, true);
    (root, parser.findings)
}

struct Parser<'a> {
    source: &'a Source,
    text: &'a str,
    at: usize,
    findings: Vec<Finding>,
    depth: usize,
}

/// Deeper nesting than any real file has; the rest is skipped rather than recursed into.
const MAX_DEPTH: usize = 32;

impl Parser<'_> {
    fn peek(&self) -> Option<char> {
        self.text[self.at..].chars().next()
    }

    fn skip(&mut self, blank: impl Fn(char) -> bool) {
        while let Some(c) = self.peek().filter(|c| blank(*c)) {
            self.at += c.len_utf8();
        }
    }

    fn skip_line(&mut self) {
        self.skip(|c| c != '\n');
    }

    fn error(&mut self, start: usize, message: &str) {
        let place = self.source.place(Span { start, end: self.at.max(start) });
        self.findings.push(Finding::new(&rules::DEVICE_SYNTAX, message).at(place));
    }

    fn body(&mut self, section: &mut Section, top: bool) {
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

    fn word(&mut self) -> Located<String> {
        let start = self.at;
        self.skip(|c| !c.is_whitespace() && !"{}=#\":,".contains(c));
        Located::new(self.text[start..self.at].to_owned(), start..self.at)
    }

    fn statement(&mut self, section: &mut Section) {
        let start = self.at;
        let name = self.word();
        self.skip(|c| c == ' ' || c == '\t');
        match self.peek() {
            Some('=') if !name.value.is_empty() => {
                self.at += 1;
                let value = self.value();
                section.settings.push((name, value));
            }
            Some('{') if self.depth < MAX_DEPTH => {
                self.at += 1;
                self.depth += 1;
                let mut inner = Section { name: Located0 { value: name.value, span: name.span }, ..Section::default() };
                self.body(&mut inner, false);
                self.depth -= 1;
                section.sections.push(inner);
            }
            _ => {
                self.skip_line();
                self.error(start, "neither a setting nor a section");
            }
        }
    }

    fn value(&mut self) -> Located<String> {
        self.skip(|c| c == ' ' || c == '\t');
        let start = self.at;
        if self.peek() == Some('"') {
            return self.quoted(start);
        }
        self.skip(|c| !"\n#{}".contains(c));
        let text = self.text[start..self.at].trim_end();
        Located::new(text.to_owned(), start..start + text.len())
    }

    fn quoted(&mut self, start: usize) -> Located<String> {
        self.at += 1;
        let mut value = String::new();
        let mut escaped = false;
        while let Some(c) = self.peek() {
            self.at += c.len_utf8();
            match (escaped, c) {
                (false, '"') => return Located::new(value, start..self.at),
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
        Located::new(value, start..self.at)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn read(text: &str) -> (Section, usize) {
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
        fn quoting_round_trips(value in "[ -~äß#{}\"\\\\=]{0,40}") {
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
