//! The kinds of files that are written, as their real readers take them, and the one gate that every file passes.
//!
//! What a reader does with long lines, with a backslash and with odd characters was found with the program itself; the lab's
//! test `readers` holds each row against it.

mod remarks;
pub mod shell;
mod unwritable;

pub use remarks::Remarks;
pub use remarks::{Draft, REMARK, comment, remark, sentence};
pub use unwritable::Unwritable;

use crate::text::line_end;
use uspan_model::finding::{self as rules, Finding};
use uspan_model::gateway::{Tree, TreeFile};
use uspan_model::source::{Source, Span, misleads};

/// A kind of file.
#[derive(Debug)]
pub struct Dialect {
    /// Its manual page.
    pub name: &'static str,
    /// The program that reads it, as Debian 12 packages it.
    pub reader: &'static str,
    /// What begins a comment, where a line begins.
    pub comment: char,
    /// The bytes of a line that the reader takes at once: what is behind them is a line of its own to it. `None` where it was given
    /// 100,000 bytes and took them as one line.
    pub piece: Option<usize>,
    /// A comment that ends in a backslash goes on in the next line.
    pub comments_go_on: bool,
}

/// swanctl.conf(5) and strongswan.conf(5).
pub static SETTINGS: Dialect =
    Dialect { name: "swanctl.conf(5)", reader: "swanctl 5.9.8", comment: '#', piece: None, comments_go_on: false };
/// ipsec.conf(5).
pub static IPSEC_CONF: Dialect =
    Dialect { name: "ipsec.conf(5)", reader: "addconn 4.10", comment: '#', piece: None, comments_go_on: false };
/// ipsec.secrets(5).
pub static IPSEC_SECRETS: Dialect =
    Dialect { name: "ipsec.secrets(5)", reader: "pluto 4.10", comment: '#', piece: Some(2047), comments_go_on: false };
/// iked.conf(5).
pub static IKED_CONF: Dialect = Dialect { name: "iked.conf(5)", reader: "iked 7.2", comment: '#', piece: None, comments_go_on: true };
/// nft(8).
pub static NFT: Dialect = Dialect { name: "nft(8)", reader: "nft 1.0.6", comment: '#', piece: None, comments_go_on: false };
/// iptables-restore(8).
pub static IPTABLES: Dialect =
    Dialect { name: "iptables-restore(8)", reader: "iptables-restore 1.8.9", comment: '#', piece: Some(10_239), comments_go_on: false };
/// interfaces(5).
pub static INTERFACES: Dialect = Dialect { name: "interfaces(5)", reader: "ifup 0.8.41", comment: '#', piece: None, comments_go_on: false };
/// vtysh(1).
pub static VTYSH: Dialect = Dialect { name: "vtysh(1)", reader: "vtysh 8.4", comment: '!', piece: Some(4095), comments_go_on: false };
/// A shell script (POSIX.1-2017).
pub static SCRIPT: Dialect = Dialect { name: "sh(1)", reader: "dash 0.5.12", comment: '#', piece: None, comments_go_on: false };
/// Keys and certificates (RFC 7468).
pub static PEM: Dialect = Dialect { name: "PEM (RFC 7468)", reader: "openssl 3.0", comment: '#', piece: None, comments_go_on: false };

/// A list of parameters, for people.
pub static PARAMETERS: Dialect =
    Dialect { name: "a list of parameters", reader: "its reader", comment: '#', piece: None, comments_go_on: false };

/// All kinds, each with where its files stand: what their paths begin and end with. The first that fits counts.
pub static DIALECTS: &[(&str, &str, &Dialect)] = &[
    ("etc/swanctl/conf.d/", ".conf", &SETTINGS),
    ("etc/swanctl/swanctl.conf", "", &SETTINGS),
    ("etc/strongswan", ".conf", &SETTINGS),
    ("etc/swanctl/", ".pem", &PEM),
    ("etc/ipsec.", ".conf", &IPSEC_CONF),
    ("etc/ipsec.", ".secrets", &IPSEC_SECRETS),
    ("etc/ipsec.d/", "", &PEM),
    ("etc/iked.conf", "", &IKED_CONF),
    ("etc/iked.d/", ".conf", &IKED_CONF),
    ("etc/iked/", "", &PEM),
    ("etc/nftables", "", &NFT),
    ("etc/iptables/", "", &IPTABLES),
    ("etc/network/interfaces", "", &INTERFACES),
    ("etc/frr/", ".conf", &VTYSH),
    ("parameters/", ".txt", &PARAMETERS),
    ("", ".sh", &SCRIPT),
];

/// The kind of the file at a path below a gateway's `/`.
pub fn dialect(path: &str) -> Option<&'static Dialect> {
    DIALECTS.iter().find(|(begin, end, _)| path.starts_with(begin) && path.ends_with(end)).map(|(_, _, dialect)| *dialect)
}

/// As much of what a reader takes at once as a line of ours fills at most.
const SHARE: (usize, usize) = (3, 4);
/// As long may a line be where a reader has no limit: a list of a few thousand networks.
const LONGEST: usize = 100_000;

impl Dialect {
    /// The bytes that a line of ours may have.
    pub fn longest(&self) -> usize {
        self.piece.map_or(LONGEST, |piece| piece * SHARE.0 / SHARE.1)
    }

    /// The lines that the real reader sees, each with its offset; without their ends.
    pub fn lines<'a>(&self, text: &'a str) -> impl Iterator<Item = (usize, &'a str)> {
        let piece = self.piece.unwrap_or(usize::MAX);
        let mut at = 0;
        std::iter::from_fn(move || {
            let rest = text.get(at..).filter(|rest| !rest.is_empty())?;
            let line = rest.len().min(line_end(rest) + 1);
            let mut end = line.min(piece);
            // A character that the reader would cut is left whole: it is not ASCII, and so part of no keyword.
            while !rest.is_char_boundary(end) {
                end -= 1;
            }
            // A character alone is longer than the piece: no dialect has such a one.
            let end = if end == 0 { line } else { end };
            let start = at;
            at += end;
            Some((start, rest[..end].trim_end_matches(['\n', '\r'])))
        })
    }

    /// The same of a source, without what is blank around each line: its span is from the line's first byte to the end of what it says.
    pub(crate) fn statements<'a>(&self, source: &'a Source) -> impl Iterator<Item = (&'a str, Span)> {
        self.lines(source.text()).map(|(start, line)| (line.trim(), Span { start, end: start + line.trim_end().len() }))
    }

    /// Lines that the real reader takes in pieces.
    pub(crate) fn in_pieces(&self, source: &Source) -> Vec<Finding> {
        let Some(piece) = self.piece else { return Vec::new() };
        let long = source.lines().filter(|(_, span)| span.end - span.start > piece);
        let find = |(_, span): (&str, Span)| {
            let message = format!(
                "a line of {} bytes, of which {} takes {piece} at once: what is behind them is a line of its own to it",
                span.end - span.start,
                self.reader
            );
            Finding::new(&rules::LINE_IN_PIECES, message).at(source.place(Span { start: span.start, end: span.start }))
        };
        long.map(find).collect()
    }

    /// What keeps a text from being a file of this kind.
    fn refuses(&self, path: &str, text: &str) -> Option<Unwritable> {
        // Nearly all texts are ASCII, and told at once.
        if !is_simple(text)
            && let Some(odd) = text.chars().find(|c| misleads(*c) && !matches!(c, '\n' | '\t'))
        {
            let what = format!("the character U+{:04X} in `{path}`, which does not show, or steers a terminal", u32::from(odd));
            return Some(Unwritable::new(what, "Take it out of the description."));
        }
        // Nor do nearly all have a long line, or anything that a remark could end in.
        if is_short(text, self.longest().min(2 * REMARK)) && memchr::memchr(b'\\', text.as_bytes()).is_none() {
            return None;
        }
        for (number, line) in lines(text).enumerate() {
            let remark = line.trim_start().starts_with(self.comment);
            let most = if remark { 2 * REMARK } else { self.longest() };
            if line.len() > most {
                let what = format!(
                    "line {} of `{path}` with {} bytes: {most} are the most that is safe with {}",
                    number + 1,
                    line.len(),
                    self.reader
                );
                return Some(Unwritable::new(what, "Make what stands there shorter, or divide it among several tunnels."));
            }
            if remark && line.ends_with('\\') {
                let what =
                    format!("a remark in line {} of `{path}` that ends in a backslash: it would take the next line along", number + 1);
                return Some(Unwritable::new(what, "Let it end in another character."));
            }
        }
        None
    }
}

/// Whether nothing in a text could mislead: a piece at a time, which a processor tells at once.
fn is_simple(text: &str) -> bool {
    const AT_ONCE: usize = 512;
    let simple = |byte: u8| matches!(byte, b' '..=b'~' | b'\n' | b'\t');
    text.as_bytes().chunks(AT_ONCE).all(|piece| piece.iter().fold(true, |all, byte| all & simple(*byte)))
}

/// Whether no line of a text is longer than this: from one line end to the last that is near enough.
fn is_short(text: &str, most: usize) -> bool {
    let mut rest = text.as_bytes();
    while rest.len() > most {
        let Some(end) = memchr::memrchr(b'\n', &rest[..=most]) else { return false };
        rest = &rest[end + 1..];
    }
    true
}

/// The lines of a text, without their ends.
fn lines(text: &str) -> impl Iterator<Item = &str> {
    let mut start = 0;
    let ends = memchr::memchr_iter(b'\n', text.as_bytes()).chain((!text.ends_with('\n')).then_some(text.len()));
    ends.map(move |end| {
        let line = &text[start..end];
        start = end + 1;
        line
    })
}

/// The gate: no file leaves the core that did not pass it.
///
/// # Errors
/// A file of no known kind, a line that comes near what its reader takes at once, a remark that would take the next line along, a
/// character that misleads.
pub fn gate(tree: &Tree) -> Result<(), Vec<Unwritable>> {
    let refused: Vec<_> = tree.files.iter().filter_map(|(path, file)| refused(path, file)).collect();
    if refused.is_empty() { Ok(()) } else { Err(refused) }
}

fn refused(path: &str, file: &TreeFile) -> Option<Unwritable> {
    match dialect(path) {
        Some(dialect) => dialect.refuses(path, &file.text),
        None => Some(Unwritable::new(format!("`{path}`, a file of no known kind"), "This is a defect of the program; please report it.")),
    }
}

/// The name of an interface as a word of any dialect.
///
/// # Errors
/// What the kernel takes as a name and a dialect would take for something else.
pub(crate) fn interface(name: &str) -> Result<&str, Unwritable> {
    match is_interface(name) {
        true => Ok(name),
        false => Err(Unwritable::new(
            format!("an interface of the name `{}`", uspan_model::source::shown(name)),
            "Give it a name of letters, digits, `.`, `_`, `-` and `@`, which begins with a letter, a digit or `_`.",
        )),
    }
}

/// Whether the name of an interface is one that every dialect takes as one word and no program for an option; the kernel takes 15
/// bytes (IFNAMSIZ).
pub fn is_interface(name: &str) -> bool {
    (1..=15).contains(&name.len())
        && name.bytes().all(|b| b.is_ascii_alphanumeric() || b"._-@".contains(&b))
        && name.starts_with(|c: char| c.is_ascii_alphanumeric() || c == '_')
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_gate_refuses_what_a_reader_would_take_for_more() {
        assert!(gate(&Tree::of("etc/iptables/uspan-x.v4", "*filter\n-A x -j ACCEPT\nCOMMIT\n")).is_ok());
        let long = format!("*filter\n-A x {}\nCOMMIT\n", "y".repeat(8000));
        for (path, text) in [
            ("etc/iptables/uspan-x.v4", long.as_str()),
            ("etc/iked.conf", "# a remark \\\nset passive\n"),
            ("etc/nftables.d/uspan-x.nft", "# \u{202e}\n"),
            ("etc/network/interfaces.d/uspan-x", "auto x\u{9b}\n"),
            ("etc/passwd", "root\n"),
        ] {
            assert_eq!(gate(&Tree::of(path, text)).map_err(|refused| refused.len()), Err(1), "{path}");
        }
    }

    #[test]
    fn a_line_is_what_the_reader_takes_at_once() {
        let text = format!("! {}router bgp 1\nx\n", "y".repeat(4093));
        let lines: Vec<_> = VTYSH.lines(&text).map(|(at, line)| (at, line.len())).collect();
        assert_eq!(lines, [(0, 4095), (4095, 12), (4108, 1)]);
        assert_eq!(NFT.lines(&text).count(), 2);
    }

    proptest! {
        #[test]
        fn whatever_a_remark_says_is_comments_that_pass(text in any::<String>(), more in "[ a\\\\x-z\u{202e}\u{85}é]{0,600}") {
            let mut out = Draft::default();
            sentence(&mut out, "\t", &format!("{text}{more}"));
            let out = out.into_text();
            for line in out.lines() {
                prop_assert!(line.starts_with("\t#") && !line.ends_with('\\') && line.len() <= 2 * REMARK, "{line}");
            }
            let dialect = IKED_CONF.refuses("f", &out);
            prop_assert_eq!(dialect, None);
        }

        #[test]
        fn no_byte_of_a_text_is_lost_between_lines(text in "[a\n\ré]{0,300}") {
            let small = Dialect { piece: Some(7), ..Dialect { ..NFT_LIKE } };
            let mut seen = 0;
            for (at, line) in small.lines(&text) {
                prop_assert!(at >= seen && line.len() <= 7 && text[at..].starts_with(line));
                seen = at + line.len();
            }
            prop_assert_eq!(text[seen..].trim_matches(['\n', '\r']), "");
        }
    }

    const NFT_LIKE: Dialect = Dialect { name: "", reader: "", comment: '#', piece: None, comments_go_on: false };
}
