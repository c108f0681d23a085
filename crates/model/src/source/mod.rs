//! Text and where things stand in it.
//!
//! Every value the core reads keeps its place, so that a finding can show the line it is about.

mod characters;

pub use characters::{COVERED, is_plain, lines_shown, lines_written_out, misleads, shown};

use std::fmt;
use std::ops::Range;
use std::sync::{Arc, OnceLock};

/// A half-open range of bytes in a source text.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Span {
    /// First byte.
    pub start: usize,
    /// One past the last byte.
    pub end: usize,
}

impl Span {
    /// The span as a standard range.
    pub fn range(self) -> Range<usize> {
        self.start..self.end
    }
}

impl From<Range<usize>> for Span {
    fn from(range: Range<usize>) -> Self {
        Span { start: range.start, end: range.end }
    }
}

/// A value and where it stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Located<T> {
    /// The value itself.
    pub value: T,
    /// Where it was written.
    pub span: Span,
}

impl<T> Located<T> {
    /// Puts a value at a place.
    pub fn new(value: T, span: impl Into<Span>) -> Self {
        Located { value, span: span.into() }
    }

    /// The same place with another value.
    pub fn map<U>(self, f: impl FnOnce(T) -> U) -> Located<U> {
        Located { value: f(self.value), span: self.span }
    }
}

/// Line and column, both counted from 1; the column counts characters.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Position {
    /// Line, from 1.
    pub line: usize,
    /// Column in characters, from 1.
    pub column: usize,
}

impl fmt::Display for Position {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}", self.line, self.column)
    }
}

/// A named text: a description, or a file of a gateway. Further texts that belong to a description lie behind it, end to end:
/// a span says by where it stands to which text it belongs.
#[derive(Clone, Debug)]
pub struct Source {
    name: Arc<str>,
    text: Arc<str>,
    /// Found when somebody asks for a line.
    line_starts: Arc<OnceLock<Vec<usize>>>,
    /// Further texts, each with the offset at which it lies.
    further: Arc<[(usize, Source)]>,
}

impl Source {
    /// Takes a text under the name that findings will show.
    pub fn new(name: impl Into<Arc<str>>, text: impl Into<Arc<str>>) -> Self {
        Source { name: name.into(), text: text.into(), line_starts: Arc::default(), further: Arc::default() }
    }

    /// The same with further texts behind it.
    pub fn followed_by(self, texts: impl IntoIterator<Item = Source>) -> Self {
        // One past the end of each belongs to it, too.
        let mut at = self.text.len() + 1;
        let further = texts.into_iter().map(|text| {
            let start = at;
            at += text.text.len() + 1;
            (start, text)
        });
        Source { further: further.collect(), ..self }
    }

    /// All of its texts, each with the offset at which it lies.
    pub fn texts(&self) -> impl Iterator<Item = (usize, &Source)> {
        std::iter::once((0, self)).chain(self.further.iter().map(|(start, text)| (*start, text)))
    }

    /// Its text of this name.
    pub fn file(&self, name: &str) -> Option<&Source> {
        self.texts().map(|(_, text)| text).find(|text| *text.name == *name)
    }

    /// The text in which an offset lies, and where in it.
    fn within(&self, offset: usize) -> (&Source, usize) {
        let behind = self.further.partition_point(|(start, _)| *start <= offset);
        match behind.checked_sub(1).and_then(|last| self.further.get(last)) {
            Some((start, text)) => (text, offset - start),
            None => (self, offset),
        }
    }

    /// The name given to the text.
    pub fn name(&self) -> &Arc<str> {
        &self.name
    }

    /// The whole text.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// The lines without what is blank around them; each span is from the line's first byte to the end of what it says.
    pub fn lines(&self) -> impl Iterator<Item = (&str, Span)> {
        let mut start = 0;
        self.text().split_inclusive('\n').map(move |line| {
            let span = Span { start, end: start + line.trim_end().len() };
            start += line.len();
            (line.trim(), span)
        })
    }

    /// Line and column of a byte offset; offsets past the end stand at the end.
    pub fn position(&self, offset: usize) -> Position {
        let (text, offset) = self.within(offset);
        text.own_position(offset)
    }

    fn own_position(&self, offset: usize) -> Position {
        let mut offset = offset.min(self.text.len());
        while !self.text.is_char_boundary(offset) {
            offset -= 1;
        }
        let starts = self.line_starts.get_or_init(|| {
            let behind = self.text.bytes().enumerate().filter(|(_, byte)| *byte == b'\n').map(|(at, _)| at + 1);
            std::iter::once(0).chain(behind).collect()
        });
        let line = starts.partition_point(|start| *start <= offset);
        let column = self.text[starts[line - 1]..offset].chars().count() + 1;
        Position { line, column }
    }

    /// The place of a span in this source.
    pub fn place(&self, span: Span) -> Place {
        let (text, start) = self.within(span.start);
        Place { file: text.name.clone(), span: Span { start, end: start + (span.end - span.start) } }
    }
}

/// A span in a named file.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Place {
    /// Name of the file, as the source was named.
    pub file: Arc<str>,
    /// Where in it.
    pub span: Span,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn positions_count_lines_and_characters_from_one() {
        let source = Source::new("f", "a\nbü c\n");
        assert_eq!(source.position(0).to_string(), "1:1");
        assert_eq!(source.position(2).to_string(), "2:1");
        assert_eq!(source.position(5).to_string(), "2:3");
        assert_eq!(source.position(999).to_string(), "3:1");
    }

    #[test]
    fn texts_behind_the_first_one_keep_their_own_lines() {
        let all = Source::new("d", "a\nb").followed_by([Source::new("one", "x\ny"), Source::new("two", "z")]);
        let starts: Vec<_> = all.texts().map(|(start, text)| (start, text.name().to_string())).collect();
        assert_eq!(starts, [(0, "d".to_owned()), (4, "one".to_owned()), (8, "two".to_owned())]);
        let place = all.place(Span { start: 6, end: 7 });
        assert_eq!((&*place.file, place.span), ("one", Span { start: 2, end: 3 }));
        assert_eq!(all.position(6).to_string(), "2:1");
        assert_eq!(all.place(Span { start: 3, end: 3 }).file, *all.name());
        assert_eq!(all.file("two").expect("it is there").text(), "z");
    }

    #[test]
    fn an_offset_inside_a_character_belongs_to_it() {
        let source = Source::new("f", "ü");
        assert_eq!(source.position(1).to_string(), "1:1");
    }
}
