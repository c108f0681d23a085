//! Rows of the platforms' tables of spellings.

use std::borrow::Cow;
use std::ops::Deref;
use std::sync::OnceLock;

use crate::text::beginning;
use uspan_model::algorithm::{Kind, Row, Status, Transform};
use uspan_model::gateway::{Proposal, Protocol};

/// Which security association an algorithm is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Sa {
    /// The IKE SA.
    Ike,
    /// ESP.
    Esp,
    /// Both.
    Both,
}

impl Sa {
    /// Whether a row for `self` serves `wanted`.
    pub fn covers(self, wanted: Sa) -> bool {
        self == Sa::Both || self == wanted
    }

    /// In words.
    pub fn word(self) -> &'static str {
        match self {
            Sa::Ike => "IKE",
            Sa::Esp => "ESP",
            Sa::Both => "IKE and ESP",
        }
    }
}

/// How a platform spells an algorithm.
#[derive(Clone, Debug)]
pub struct Name {
    /// The algorithm.
    pub transform: Transform,
    /// The platform's word.
    pub word: Cow<'static, str>,
    /// Where it can use it.
    pub sa: Sa,
}

/// The names that a platform has for algorithms, found from both sides.
#[derive(Debug)]
pub struct Names {
    rows: Cow<'static, [Name]>,
    index: OnceLock<NameIndex>,
}

/// The places of rows, sorted by what they are looked up by; of several that are alike in their order.
#[derive(Debug)]
struct NameIndex {
    by_transform: Vec<(u64, usize)>,
    by_word: Vec<(u64, usize)>,
}

/// The numbers of a transform as one.
fn number_of(transform: Transform) -> u64 {
    u64::from(transform.kind.number()) << 32 | u64::from(transform.number) << 16 | u64::from(transform.key_bits)
}

impl Names {
    /// A platform's table.
    pub(crate) const fn of(rows: &'static [Name]) -> Names {
        Names { rows: Cow::Borrowed(rows), index: OnceLock::new() }
    }

    /// Those of the registries: each algorithm by our own name, wherever an RFC defines it.
    pub(crate) fn registered() -> Names {
        let named = |kind: Kind| kind.rows().iter().filter(|row| !row.name.is_empty());
        // Groups with subgroups are withdrawn, and nobody spells them alike.
        let is_usual = |row: &&'static Row| row.kind != Kind::KeyExchange || !(22..=24).contains(&row.number);
        let rows = Kind::ALL.into_iter().flat_map(named).filter(is_usual).map(|row| Name {
            transform: Transform::of(row),
            word: Cow::Borrowed(row.name),
            sa: match (row.ike, row.esp) {
                (Status::Undefined, _) => Sa::Esp,
                _ if row.kind == Kind::Prf => Sa::Ike,
                _ => Sa::Both,
            },
        });
        Names { rows: rows.collect::<Vec<_>>().into(), index: OnceLock::new() }
    }

    /// Changes them: those of another release.
    pub fn change(&mut self, change: impl FnOnce(&mut Vec<Name>)) {
        change(self.rows.to_mut());
        self.index = OnceLock::new();
    }

    fn index(&self) -> &NameIndex {
        self.index.get_or_init(|| {
            let mut by_transform: Vec<_> = self.rows.iter().enumerate().map(|(at, row)| (number_of(row.transform), at)).collect();
            by_transform.sort_unstable();
            let mut by_word: Vec<_> = self.rows.iter().enumerate().map(|(at, row)| (beginning(&row.word), at)).collect();
            by_word.sort_unstable();
            NameIndex { by_transform, by_word }
        })
    }

    /// The rows of an algorithm.
    pub(crate) fn of_transform(&self, transform: Transform) -> impl Iterator<Item = &Name> {
        let (all, wanted) = (&self.index().by_transform, number_of(transform));
        let start = all.partition_point(|(number, _)| *number < wanted);
        all[start..].iter().take_while(move |(number, _)| *number == wanted).map(|(_, at)| &self.rows[*at])
    }

    /// The rows of a word.
    pub(crate) fn of_word<'a>(&'a self, word: &'a str) -> impl Iterator<Item = &'a Name> {
        let (all, wanted) = (&self.index().by_word, beginning(word));
        let start = all.partition_point(|(first, _)| *first < wanted);
        let alike = all[start..].iter().take_while(move |(first, _)| *first == wanted);
        alike.map(|(_, at)| &self.rows[*at]).filter(move |row| row.word == word)
    }
}

impl Clone for Names {
    fn clone(&self) -> Names {
        Names { rows: self.rows.clone(), index: OnceLock::new() }
    }
}

impl Deref for Names {
    type Target = [Name];

    fn deref(&self) -> &[Name] {
        &self.rows
    }
}

/// A row of a cipher table.
pub(crate) const fn cipher(number: u16, key_bits: u16, word: &'static str, sa: Sa) -> Name {
    Name { transform: Transform::encryption(number, key_bits), word: Cow::Borrowed(word), sa }
}

/// A row of a table of PRFs.
pub(crate) const fn prf(number: u16, word: &'static str) -> Name {
    Name { transform: Transform::prf(number), word: Cow::Borrowed(word), sa: Sa::Ike }
}

/// A row of a table of integrity algorithms.
pub(crate) const fn integrity(number: u16, word: &'static str, sa: Sa) -> Name {
    Name { transform: Transform::integrity(number), word: Cow::Borrowed(word), sa }
}

/// A row of a table of key exchange methods.
pub(crate) const fn group(number: u16, word: &'static str) -> Name {
    Name { transform: Transform::key_exchange(number), word: Cow::Borrowed(word), sa: Sa::Both }
}

/// A proposal holds combined-mode ciphers or others, never both (RFC 7296 section 3.3): a separate integrity algorithm
/// goes with the others only.
pub(crate) fn one_mode(proposal: &Proposal) -> Result<(), super::Unwritable> {
    let ciphers = proposal.of(Kind::Encryption);
    if ciphers.iter().any(|c| c.is_aead()) && !proposal.is_combined() {
        return Err(super::Unwritable::new("combined-mode and other ciphers in one proposal", "Write them as two proposals."));
    }
    Ok(())
}

impl From<Protocol> for Sa {
    fn from(protocol: Protocol) -> Sa {
        if protocol == Protocol::Ike { Sa::Ike } else { Sa::Esp }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_found_from_both_sides_as_they_are_now() {
        const ROWS: &[Name] = &[integrity(12, "sha", Sa::Both), prf(5, "sha"), prf(6, "other")];
        let mut names = Names::of(ROWS);
        let of = |names: &Names, word: &str| names.of_word(word).map(|row| row.transform).collect::<Vec<_>>();
        assert_eq!(of(&names, "sha"), [Transform::integrity(12), Transform::prf(5)]);
        assert_eq!(names.of_transform(Transform::prf(6)).map(|row| &*row.word).collect::<Vec<_>>(), ["other"]);
        names.change(|rows| rows.push(prf(6, "sha")));
        assert_eq!(of(&names, "sha").len(), 3);
        assert_eq!(
            (of(&names, "none").len(), names.of_transform(Transform::prf(6)).count(), names.of_transform(Transform::prf(7)).count()),
            (0, 2, 0)
        );
    }
}
