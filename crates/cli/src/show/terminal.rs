//! The one way to the terminal: what would steer it is written out, and an output that is closed or full is no reason to panic.

use std::borrow::Cow;
use std::cell::{Cell, RefCell};
use std::io::{self, Write};

use serde::Serialize;
use serde::ser::{SerializeMap as _, SerializeSeq as _};
use serde_json::ser::{Formatter, PrettyFormatter};
use serde_json::{Serializer, Value};
use uspan_core::{lines_written_out, misleads};

/// A text of several lines as it may go to a terminal: of what steers one, only our own styles (SGR sequences) are left.
fn safe(text: &str) -> Cow<'_, str> {
    let mut rest = text;
    let mut out = String::new();
    while let Some((at, length)) = next_style(rest) {
        out.push_str(&lines_written_out(&rest[..at]));
        out.push_str(&rest[at..at + length]);
        rest = &rest[at + length..];
    }
    match out.is_empty() {
        true => lines_written_out(rest),
        false => (out + &lines_written_out(rest)).into(),
    }
}

/// Where the next style of a text stands, and its length.
fn next_style(text: &str) -> Option<(usize, usize)> {
    text.match_indices('\u{1b}').find_map(|(at, _)| Some((at, style(&text[at..])?)))
}

/// The length of a style that a text begins with (ECMA-48, SGR).
fn style(text: &str) -> Option<usize> {
    let rest = text.strip_prefix("\u{1b}[")?;
    let end = rest.find(|c: char| !c.is_ascii_digit() && c != ';')?;
    rest[end..].starts_with('m').then_some(2 + end + 1)
}

/// Prints lines of data, with styles where the stream wants them.
///
/// # Errors
/// When the stream is closed or full.
pub fn line(text: &str) -> io::Result<()> {
    let mut out = anstream::stdout();
    writeln!(out, "{}", safe(text))?;
    out.flush()
}

/// Prints a text of several lines as it is.
///
/// # Errors
/// The same.
pub fn text(text: &str) -> io::Result<()> {
    let mut out = anstream::stdout();
    out.write_all(safe(text).as_bytes())?;
    out.flush()
}

/// Prints what somebody asked for with `--help`.
///
/// # Errors
/// The same.
pub fn help(asked: &clap::Error) -> io::Result<()> {
    let mut out = anstream::stdout();
    write!(out, "{}", asked.render().ansi())?;
    out.flush()
}

/// Prints lines to standard error. Nothing can be told where that cannot be written.
pub fn error_line(text: &str) {
    let _ = writeln!(anstream::stderr(), "{}", safe(text));
}

/// Prints JSON, piece by piece. What would steer a terminal is escaped, as RFC 8259 section 7 lets one do with every character.
///
/// # Errors
/// The same.
pub fn json(value: &impl Serialize) -> io::Result<()> {
    let mut out = io::BufWriter::new(io::stdout().lock());
    value.serialize(&mut Serializer::with_formatter(&mut out, Escaping(PrettyFormatter::new()))).map_err(io::Error::from)?;
    out.write_all(b"\n")?;
    out.flush()
}

/// Prints an object as JSON whose first entry, a list, is written while it comes about; `work` puts the items and gives the other
/// entries.
///
/// # Errors
/// The same.
pub fn json_streamed(list: &str, work: impl FnOnce(&mut dyn FnMut(&Value)) -> Value) -> io::Result<()> {
    struct Items<W>(Cell<Option<W>>, RefCell<Value>);

    impl<W: FnOnce(&mut dyn FnMut(&Value)) -> Value> Serialize for Items<W> {
        fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
            let (mut items, mut failed) = (serializer.serialize_seq(None)?, None);
            if let Some(work) = self.0.take() {
                let rest = work(&mut |item| {
                    // Where nobody reads on, the rest of the work is only not told.
                    if failed.is_none() {
                        failed = items.serialize_element(item).err();
                    }
                });
                self.1.replace(rest);
            }
            failed.map_or_else(|| items.end(), Err)
        }
    }

    struct Whole<'a, W>(&'a str, Items<W>);

    impl<W: FnOnce(&mut dyn FnMut(&Value)) -> Value> Serialize for Whole<'_, W> {
        fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
            let mut entries = serializer.serialize_map(None)?;
            entries.serialize_entry(self.0, &self.1)?;
            for (key, value) in self.1.1.take().as_object().into_iter().flatten() {
                entries.serialize_entry(key, value)?;
            }
            entries.end()
        }
    }

    json(&Whole(list, Items(Cell::new(Some(work)), RefCell::default())))
}

/// Indented JSON in which nothing misleads.
struct Escaping<'a>(PrettyFormatter<'a>);

impl Formatter for Escaping<'_> {
    fn write_string_fragment<W: Write + ?Sized>(&mut self, writer: &mut W, fragment: &str) -> io::Result<()> {
        let mut rest = fragment;
        while let Some(at) = rest.find(misleads) {
            writer.write_all(&rest.as_bytes()[..at])?;
            let Some(c) = rest[at..].chars().next() else { break };
            for unit in c.encode_utf16(&mut [0; 2]) {
                write!(writer, "\\u{unit:04x}")?;
            }
            rest = &rest[at + c.len_utf8()..];
        }
        writer.write_all(rest.as_bytes())
    }

    fn begin_array<W: Write + ?Sized>(&mut self, writer: &mut W) -> io::Result<()> {
        self.0.begin_array(writer)
    }

    fn end_array<W: Write + ?Sized>(&mut self, writer: &mut W) -> io::Result<()> {
        self.0.end_array(writer)
    }

    fn begin_array_value<W: Write + ?Sized>(&mut self, writer: &mut W, first: bool) -> io::Result<()> {
        self.0.begin_array_value(writer, first)
    }

    fn end_array_value<W: Write + ?Sized>(&mut self, writer: &mut W) -> io::Result<()> {
        self.0.end_array_value(writer)
    }

    fn begin_object<W: Write + ?Sized>(&mut self, writer: &mut W) -> io::Result<()> {
        self.0.begin_object(writer)
    }

    fn end_object<W: Write + ?Sized>(&mut self, writer: &mut W) -> io::Result<()> {
        self.0.end_object(writer)
    }

    fn begin_object_key<W: Write + ?Sized>(&mut self, writer: &mut W, first: bool) -> io::Result<()> {
        self.0.begin_object_key(writer, first)
    }

    fn begin_object_value<W: Write + ?Sized>(&mut self, writer: &mut W) -> io::Result<()> {
        self.0.begin_object_value(writer)
    }

    fn end_object_value<W: Write + ?Sized>(&mut self, writer: &mut W) -> io::Result<()> {
        self.0.end_object_value(writer)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn of_what_steers_a_terminal_only_styles_are_left() {
        let styled = "\u{1b}[1;31mred\u{1b}[0m\n\tgreen";
        assert_eq!(safe(styled), styled);
        assert_eq!(safe("a\u{1b}]0;x\u{7}b\u{9b}2Jc\u{202e}d\re"), "a\\u{1b}]0;x\\u{7}b\\u{9b}2Jc\\u{202e}d\\re");
        assert_eq!(safe("\u{1b}[2J"), "\\u{1b}[2J");
    }

    #[test]
    fn json_holds_nothing_that_steers_a_terminal() {
        let mut out = Vec::new();
        let value = serde_json::json!({ "a\u{9b}": ["\u{202e}x\u{e0041}", "é\n"] });
        value.serialize(&mut Serializer::with_formatter(&mut out, Escaping(PrettyFormatter::new()))).expect("written");
        let text = String::from_utf8(out).expect("text");
        assert!(!text.contains(|c| misleads(c) && c != '\n'), "{text}");
        assert_eq!(serde_json::from_str::<serde_json::Value>(&text).expect("JSON"), value);
    }
}
