//! Comments in the files that are written.

use std::borrow::Cow;
use std::fmt;

use uspan_model::gateway::TreeFile;
use uspan_model::origins::FollowedKeys;
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
    pub addresses: FollowedKeys,
    /// Where identities come from.
    pub identities: FollowedKeys,
    /// Where the IKE proposals come from.
    pub ike: FollowedKeys,
    /// Where the ESP proposals come from.
    pub esp: FollowedKeys,
    /// Where the lifetimes come from.
    pub ike_lifetime: FollowedKeys,
    /// Where the lifetimes come from.
    pub esp_lifetime: FollowedKeys,
    /// Where liveness comes from.
    pub liveness: FollowedKeys,
    /// Where the roles come from.
    pub opening: FollowedKeys,
    /// Where the secret comes from.
    pub secret: FollowedKeys,
    /// Where each child's selectors come from, in the order of the children.
    pub selectors: Vec<FollowedKeys>,
    /// Where the exemption comes from.
    pub exemption: FollowedKeys,
    /// Where the filter comes from.
    pub filter: FollowedKeys,
    /// Where the size of packets comes from.
    pub mtu: FollowedKeys,
    /// Where the interface's addresses come from.
    pub link: FollowedKeys,
    /// Where the routes come from.
    pub routes: FollowedKeys,
    /// Where sessions of a routing protocol come from.
    pub routing: FollowedKeys,
}

/// No remark is longer; longer ones are broken into lines.
pub const REMARK: usize = 160;

/// A text as comments, each line of a safe length; the first with `lead` before it, the others with a few blanks more. What would
/// end the line, or not be seen, becomes a blank.
pub fn comment(out: &mut Draft, lead: &str, text: &str) {
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
/// As many remarks as most files have.
const REMARKS: usize = 16;

/// A file while it is written: its text, and from where in it which keys of the description are followed.
#[derive(Clone, Debug, Default)]
pub struct Draft {
    text: String,
    provenance: Vec<(usize, FollowedKeys)>,
}

impl Draft {
    /// Begins with a head of comments.
    pub fn new(head: &[String]) -> Draft {
        let mut draft = Draft { text: String::with_capacity(ROOM), provenance: Vec::with_capacity(REMARKS) };
        head.iter().for_each(|line| comment(&mut draft, "#", line));
        draft
    }

    /// The same of a file of secrets. Those are short, and what they fill is wiped in the end.
    pub(crate) fn of_secrets(head: &[String]) -> Draft {
        let mut draft = Draft { text: String::with_capacity(ROOM / 8), provenance: Vec::new() };
        head.iter().for_each(|line| comment(&mut draft, "#", line));
        draft
    }

    /// Adds text.
    pub fn push_str(&mut self, text: &str) {
        self.text.push_str(text);
    }

    /// Adds a character.
    pub fn push(&mut self, c: char) {
        self.text.push(c);
    }

    /// How many bytes there are.
    pub(crate) fn len(&self) -> usize {
        self.text.len()
    }

    /// What comes follows from these keys, and no longer from those before; of several in a row from all of them.
    pub fn follows(&mut self, keys: &FollowedKeys) {
        self.provenance.push((self.text.len(), keys.clone()));
    }

    /// A file that anybody may read.
    pub fn public(self) -> TreeFile {
        let mut file = TreeFile::public(self.text);
        file.provenance = self.provenance;
        file
    }

    /// The text alone.
    pub fn into_text(self) -> String {
        self.text
    }
}

impl<'a> Extend<&'a str> for Draft {
    fn extend<T: IntoIterator<Item = &'a str>>(&mut self, pieces: T) {
        self.text.extend(pieces);
    }
}

impl fmt::Write for Draft {
    fn write_str(&mut self, text: &str) -> fmt::Result {
        self.text.push_str(text);
        Ok(())
    }
}

/// An indented remark that names keys, which what comes follows from; or nothing if there are none.
pub fn remark(out: &mut Draft, indent: &str, keys: &FollowedKeys) {
    if !keys.text().is_empty() {
        sentence(out, indent, keys.text());
        out.follows(keys);
    }
}

/// An indented remark, or nothing if there is none.
pub fn sentence(out: &mut Draft, indent: &str, text: &str) {
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
        let head = |line: &str| Draft::new(&[line.to_owned()]).into_text();
        assert_eq!(head("x\n}"), "# x }\n");
        assert_eq!(head("a\nb\r\u{2028}c\0"), "# a b  c \n");
        assert_eq!(head("goes on \\"), "# goes on \\.\n");
    }
}
