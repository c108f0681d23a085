//! Proposals as swanctl.conf(5) spells them: words joined with `-`.

use super::facts::FACTS;
use crate::algorithm::{Cipher, Group, Integrity, Prf};
use crate::dialect::Unwritable;
use crate::gateway::{EspProposal, IkeProposal};
use crate::platform::Sa;
use crate::platform::names::one_mode;

fn lacking(what: impl std::fmt::Display, sa: Sa) -> Unwritable {
    Unwritable::new(
        format!("`{what}` for {}, which strongSwan cannot do", sa.word()),
        "Choose an algorithm that `uspan algorithms` lists for strongSwan.",
    )
}

fn ciphers(list: &[Cipher], sa: Sa, words: &mut Vec<&'static str>) -> Result<(), Unwritable> {
    one_mode(list)?;
    list.iter().try_for_each(|c| FACTS.cipher(*c, sa).map(|w| words.push(w)).ok_or_else(|| lacking(c, sa)))
}

fn integrities(list: &[Integrity], sa: Sa, words: &mut Vec<&'static str>) -> Result<(), Unwritable> {
    list.iter().try_for_each(|i| FACTS.integrity(*i, sa).map(|w| words.push(w)).ok_or_else(|| lacking(i, sa)))
}

fn groups(list: &[Group], sa: Sa, words: &mut Vec<&'static str>) -> Result<(), Unwritable> {
    list.iter().try_for_each(|g| FACTS.group(*g).map(|w| words.push(w)).ok_or_else(|| lacking(g, sa)))
}

/// Spells an IKE proposal; the PRF is always written out.
pub(super) fn write_ike(proposal: &IkeProposal) -> Result<String, Unwritable> {
    let mut words = Vec::new();
    ciphers(&proposal.ciphers, Sa::Ike, &mut words)?;
    integrities(&proposal.integrities, Sa::Ike, &mut words)?;
    proposal.prfs.iter().try_for_each(|p| FACTS.prf(*p).map(|w| words.push(w)).ok_or_else(|| lacking(p, Sa::Ike)))?;
    groups(&proposal.groups, Sa::Ike, &mut words)?;
    Ok(words.join("-"))
}

/// Spells an ESP proposal, with extended sequence numbers or without.
pub(super) fn write_esp(proposal: &EspProposal, extended: bool) -> Result<String, Unwritable> {
    let mut words = Vec::new();
    ciphers(&proposal.ciphers, Sa::Esp, &mut words)?;
    integrities(&proposal.integrities, Sa::Esp, &mut words)?;
    groups(&proposal.groups, Sa::Esp, &mut words)?;
    words.extend(extended.then_some(EXTENDED));
    Ok(words.join("-"))
}

/// Extended sequence numbers, among the words of an ESP proposal.
const EXTENDED: &str = "esn";

/// Whether ESP proposals ask for extended sequence numbers; nothing where one does and another does not.
pub(super) fn extended(text: &str) -> Option<bool> {
    let mut each = text.split(',').map(|proposal| proposal.trim().split('-').any(|word| word == EXTENDED));
    let first = each.next()?;
    each.all(|other| other == first).then_some(first)
}

#[derive(Default)]
struct Words {
    ciphers: Vec<Cipher>,
    integrities: Vec<Integrity>,
    prfs: Vec<Prf>,
    groups: Vec<Group>,
}

fn sort(text: &str) -> Result<Words, String> {
    let mut sorted = Words::default();
    for word in text.split('-') {
        if let Some(row) = FACTS.ciphers.iter().find(|row| row.word == word) {
            sorted.ciphers.push(row.cipher);
        } else if let Some(row) = FACTS.integrities.iter().find(|row| row.word == word) {
            sorted.integrities.push(Integrity(row.number));
        } else if let Some(row) = FACTS.prfs.iter().find(|row| row.word == word) {
            sorted.prfs.push(Prf(row.number));
        } else if let Some(row) = FACTS.groups.iter().find(|row| row.word == word) {
            sorted.groups.push(Group(row.number));
        } else if word != "noesn" && word != EXTENDED {
            return Err(word.to_owned());
        }
    }
    Ok(sorted)
}

/// Reads an IKE proposal; without a PRF word the PRFs follow from the integrity algorithms.
pub(super) fn read_ike(text: &str) -> Result<IkeProposal, String> {
    let mut words = sort(text)?;
    if words.prfs.is_empty() {
        words.prfs = words.integrities.iter().filter_map(|i| i.prf()).collect();
    }
    Ok(IkeProposal { ciphers: words.ciphers, integrities: words.integrities, prfs: words.prfs, groups: words.groups })
}

/// Reads an ESP proposal.
pub(super) fn read_esp(text: &str) -> Result<EspProposal, String> {
    let words = sort(text)?;
    Ok(EspProposal { ciphers: words.ciphers, integrities: words.integrities, groups: words.groups })
}
