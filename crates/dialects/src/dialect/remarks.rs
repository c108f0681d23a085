//! Comments in the files that are written.

use std::borrow::Cow;

use uspan_model::source::{is_plain, misleads};

/// Comments for the files: which part of the description each statement follows from.
///
/// They name the key (`tunnel.harvest.carries`), not the line number: a key stands on one line of
/// the description, and keeps its name when a site is added above it, so that the files of
/// other tunnels do not change.
#[derive(Clone, Debug, Default)]
pub struct Remarks {
    /// Name of the tunnel; files are named after it.
    pub stem: String,
    /// Lines for the head of every file.
    pub head: Vec<String>,
    /// Where addresses come from.
    pub addresses: String,
    /// Where identities come from.
    pub identities: String,
    /// Where the IKE proposals come from.
    pub ike: String,
    /// Where the ESP proposals come from.
    pub esp: String,
    /// Where the lifetimes come from.
    pub ike_lifetime: String,
    /// Where the lifetimes come from.
    pub esp_lifetime: String,
    /// Where liveness comes from.
    pub liveness: String,
    /// Where the roles come from.
    pub opening: String,
    /// Where the secret comes from.
    pub secret: String,
    /// Where each child's selectors come from, in the order of the children.
    pub selectors: Vec<String>,
    /// Where the exemption comes from.
    pub exemption: String,
    /// Where the filter comes from.
    pub filter: String,
    /// Where the size of packets comes from.
    pub mtu: String,
    /// Where the interface's addresses come from.
    pub link: String,
    /// Where the routes come from.
    pub routes: String,
    /// Where sessions of a routing protocol come from.
    pub routing: String,
}

/// No remark is longer; longer ones are broken into lines.
pub const REMARK: usize = 160;

/// A text as comments, each line of a safe length; the first with `lead` before it, the others with a few blanks more. What would
/// end the line, or not be seen, becomes a blank.
pub fn comment(out: &mut String, lead: &str, text: &str) {
    let plain: Cow<'_, str> = match is_plain(text) {
        true => Cow::Borrowed(text),
        false => text.chars().map(|c| if misleads(c) { ' ' } else { c }).collect::<String>().into(),
    };
    let mut rest = &*plain;
    let mut first = true;
    loop {
        let (line, more) = broken(rest);
        out.push_str(lead);
        out.push_str(if first { " " } else { "   " });
        out.push_str(line);
        // Some readers take the next line along.
        if line.ends_with('\\') {
            out.push('.');
        }
        out.push('\n');
        let Some(more) = more else { return };
        (rest, first) = (more, false);
    }
}

/// The first line of a remark, and what comes behind it: broken at a blank, or within a word that has none.
fn broken(text: &str) -> (&str, Option<&str>) {
    if text.len() <= REMARK {
        return (text, None);
    }
    let mut end = REMARK;
    while !text.is_char_boundary(end) {
        end -= 1;
    }
    match text[..end].rfind(' ').filter(|at| *at > 0) {
        Some(at) => (text[..at].trim_end(), Some(text[at..].trim_start()).filter(|rest| !rest.is_empty())),
        None => (&text[..end], Some(&text[end..])),
    }
}

/// As much as most files have, so that they need not grow piece by piece.
const ROOM: usize = 4096;

/// The head of a file as comments.
pub fn head(lines: &[String]) -> String {
    let mut text = String::with_capacity(ROOM);
    lines.iter().for_each(|line| comment(&mut text, "#", line));
    text
}

/// An indented remark, or nothing if there is none.
pub fn remark(out: &mut String, indent: &str, text: &str) {
    if text.is_empty() {
        return;
    }
    if text.len() <= REMARK && is_plain(text) && !text.ends_with('\\') {
        out.extend([indent, "# ", text, "\n"]);
    } else {
        comment(out, &format!("{indent}#"), text);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_comment_stays_on_its_line() {
        assert_eq!(head(&["x\n}".to_owned()]), "# x }\n");
        assert_eq!(head(&["a\nb\r\u{2028}c\0".to_owned()]), "# a b  c \n");
        assert_eq!(head(&["goes on \\".to_owned()]), "# goes on \\.\n");
    }
}
