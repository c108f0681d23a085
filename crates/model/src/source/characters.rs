//! Characters that would not be seen as what they are: they steer a terminal, end a line, or turn the order of reading.

use std::borrow::Cow;

/// Stands for each byte that is not shown.
pub const COVERED: char = '\u{1}';

/// Whether a character steers (C0, DEL, C1), ends a line (U+2028, U+2029), turns the order of reading (the controls of UAX 9), is
/// there without being seen (U+FEFF, U+FFF9 to U+FFFB, the tags of U+E0000), or is none (U+FFFE, U+FFFF).
pub fn misleads(c: char) -> bool {
    c.is_control()
        || matches!(
            c,
            '\u{61c}' | '\u{200e}' | '\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2066}'..='\u{2069}' | '\u{feff}' | '\u{fff9}'..='\u{fffb}' | '\u{fffe}' | '\u{ffff}' | '\u{e0000}'..='\u{e007f}'
        )
}

/// Whether a text is of one line and holds nothing that misleads. Nearly all texts are ASCII, and told at once.
pub fn is_plain(text: &str) -> bool {
    // All bytes are looked at, many at once.
    text.bytes().fold(true, |all, byte| all & matches!(byte, b' '..=b'~')) || !text.contains(misleads)
}

/// A text as it may stand in a message or a terminal: what misleads is written out (`\u{202e}`).
pub fn shown(text: &str) -> Cow<'_, str> {
    match is_plain(text) {
        true => Cow::Borrowed(text),
        false => written_out(text, |_| false),
    }
}

/// The same of a text of several lines: line ends and tabulators stay.
pub fn lines_written_out(text: &str) -> Cow<'_, str> {
    match text.contains(|c| misleads(c) && !is_layout(c)) {
        false => Cow::Borrowed(text),
        true => written_out(text, is_layout),
    }
}

fn written_out(text: &str, stays: impl Fn(char) -> bool) -> Cow<'_, str> {
    let mut out = String::with_capacity(text.len() + 8);
    for c in text.chars() {
        if misleads(c) && !stays(c) { out.extend(c.escape_default()) } else { out.push(c) }
    }
    out.into()
}

/// What puts lines and columns where they are.
fn is_layout(c: char) -> bool {
    matches!(c, '\n' | '\t')
}

/// The lines of a text for a terminal, each byte where it was: what misleads becomes a mark of the same length. Line ends and
/// tabulators stay.
pub fn lines_shown(text: &str) -> Cow<'_, str> {
    if !text.contains(|c| misleads(c) && !is_layout(c)) {
        return Cow::Borrowed(text);
    }
    let mark = |c: char| match c {
        _ if is_layout(c) || !misleads(c) => c,
        // Before a line end it belongs to that.
        '\r' => ' ',
        _ => match c.len_utf8() {
            1 => '?',
            2 => '\u{bf}',
            3 => '\u{fffd}',
            _ => '\u{1fbc4}',
        },
    };
    text.chars().map(mark).collect::<String>().into()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn what_misleads_is_written_out() {
        assert_eq!(shown("a\u{1b}[2J\u{9b}b\u{202e}c\u{2066}\n"), "a\\u{1b}[2J\\u{9b}b\\u{202e}c\\u{2066}\\n");
        assert_eq!(shown("Grüße, 10 °C"), "Grüße, 10 °C");
    }

    proptest! {
        #[test]
        fn marks_keep_every_byte_in_its_place(text in "[a\n\t\r\u{7}\u{85}\u{9b}\u{61c}\u{202e}\u{2028}\u{feff}\u{e0041}é€😀]{0,40}") {
            let marked = lines_shown(&text);
            prop_assert_eq!(marked.len(), text.len());
            prop_assert!(!marked.contains(|c| misleads(c) && c != '\n' && c != '\t'));
            for ((at, old), (also, new)) in text.char_indices().zip(marked.char_indices()) {
                prop_assert_eq!(at, also);
                prop_assert!(misleads(old) || old == new);
            }
        }

        #[test]
        fn nothing_misleads_in_a_message(text in any::<String>()) {
            prop_assert!(is_plain(&shown(&text)));
        }
    }
}
