//! A text as runs of letters and of digits, however they are joined.

use crate::source::Span;

/// A run of letters or of digits.
pub(super) struct Atom {
    pub text: String,
    pub span: Span,
    /// Whether nothing but a mark that joins stands before it.
    pub joined: bool,
    /// Whether it stands alone in round brackets.
    pub bracketed: bool,
}

impl Atom {
    pub fn number(&self) -> Option<u16> {
        self.text.parse().ok()
    }
}

/// The runs of a text, in lower case.
pub(super) fn atoms(text: &str) -> Vec<Atom> {
    let mut atoms: Vec<Atom> = Vec::new();
    let class = |c: char| {
        if c.is_ascii_digit() {
            1
        } else if c.is_alphabetic() {
            2
        } else {
            0
        }
    };
    let mut rest = text.char_indices().peekable();
    let mut end_before = 0;
    while let Some((start, c)) = rest.next() {
        let of = class(c);
        if of == 0 {
            continue;
        }
        let mut end = start + c.len_utf8();
        while let Some((at, more)) = rest.next_if(|(_, more)| class(*more) == of) {
            end = at + more.len_utf8();
        }
        let between = &text[end_before..start];
        let joined = !atoms.is_empty() && matches!(between, "" | "-" | "_");
        let bracketed = between.trim_end().ends_with('(') && text[end..].trim_start().starts_with(')');
        let (mut start, mut joined) = (start, joined);
        let word = text[start..end].to_lowercase();
        // Words that are written as one.
        let lead = ["prf", "hmac"].into_iter().find(|lead| word.strip_prefix(lead).is_some_and(|rest| !rest.is_empty()) && word.is_ascii());
        if let Some(lead) = lead {
            let middle = start + lead.len();
            atoms.push(Atom { text: lead.to_owned(), span: Span { start, end: middle }, joined, bracketed: false });
            (start, joined) = (middle, true);
        }
        let word = lead.map_or(word.as_str(), |lead| &word[lead.len()..]);
        atoms.push(Atom { text: word.to_owned(), span: Span { start, end }, joined, bracketed });
        end_before = end;
    }
    atoms
}
