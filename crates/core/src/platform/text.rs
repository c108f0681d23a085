//! What the writers and readers of all dialects share: comments that stay comments.

use std::fmt::Write as _;

use crate::digest::digest;
use crate::key::Certificate;

/// A text as the rest of a `#` comment: control characters cannot end the line.
pub(crate) fn comment(text: &str) -> String {
    text.chars().map(|c| if c.is_control() || matches!(c, '\u{2028}' | '\u{2029}') { ' ' } else { c }).collect()
}

/// The head of a file as comments.
pub(crate) fn head(lines: &[String]) -> String {
    let mut text = String::new();
    for line in lines {
        let _ = writeln!(text, "# {}", comment(line));
    }
    text
}

/// An indented remark, or nothing if there is none.
pub(crate) fn remark(out: &mut String, indent: &str, text: &str) {
    if !text.is_empty() {
        let _ = writeln!(out, "{indent}# {}", comment(text));
    }
}

/// The name of an authority, for files and databases: the same for every tunnel that believes it.
pub(crate) fn authority_name(authority: &Certificate) -> String {
    format!("uspan-{:08x}", digest(authority.pem()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_comment_stays_on_its_line() {
        assert_eq!(comment("a\nb\r\u{2028}c\0"), "a b  c ");
        assert_eq!(head(&["x\n}".to_owned()]), "# x }\n");
    }
}
