//! Proposals as iked.conf(5) spells them: `enc`, `auth`, `prf` and `group`, each as often as there are alternatives.

use super::facts::FACTS;
use crate::algorithm::{Cipher, Group, Integrity, Prf};
use crate::dialect::Unwritable;
use crate::gateway::{EspProposal, IkeProposal};
use crate::platform::Sa;
use crate::platform::names::one_mode;

fn spelled<T: Copy + std::fmt::Display>(
    out: &mut String,
    key: &str,
    list: &[T],
    sa: Sa,
    spell: impl Fn(T) -> Option<&'static str>,
) -> Result<(), Unwritable> {
    for item in list {
        let word = spell(*item).ok_or_else(|| {
            Unwritable::new(
                format!("`{item}` for {}, which OpenIKED cannot do", sa.word()),
                "Choose an algorithm that `uspan algorithms` lists for OpenIKED.",
            )
        })?;
        out.push(' ');
        out.push_str(key);
        out.push(' ');
        out.push_str(word);
    }
    Ok(())
}

/// Spells an IKE proposal.
pub(super) fn write_ike(proposal: &IkeProposal) -> Result<String, Unwritable> {
    one_mode(&proposal.ciphers)?;
    let mut out = "ikesa".to_owned();
    spelled(&mut out, "enc", &proposal.ciphers, Sa::Ike, |c| FACTS.cipher(c, Sa::Ike))?;
    spelled(&mut out, "auth", &proposal.integrities, Sa::Ike, |i| FACTS.integrity(i, Sa::Ike))?;
    spelled(&mut out, "prf", &proposal.prfs, Sa::Ike, |p| FACTS.prf(p))?;
    spelled(&mut out, "group", &proposal.groups, Sa::Ike, |g| FACTS.group(g))?;
    Ok(out)
}

/// Spells an ESP proposal, with its PFS groups and without extended sequence numbers.
pub(super) fn write_esp(proposal: &EspProposal) -> Result<String, Unwritable> {
    one_mode(&proposal.ciphers)?;
    let mut out = "childsa".to_owned();
    spelled(&mut out, "enc", &proposal.ciphers, Sa::Esp, |c| FACTS.cipher(c, Sa::Esp))?;
    spelled(&mut out, "auth", &proposal.integrities, Sa::Esp, |i| FACTS.integrity(i, Sa::Esp))?;
    spelled(&mut out, "group", &proposal.groups, Sa::Esp, |g| FACTS.group(g))?;
    out.push_str(" noesn");
    Ok(out)
}

/// Transforms of one proposal as words, gathered while reading.
#[derive(Debug, Default)]
pub(super) struct Transforms {
    ciphers: Vec<Cipher>,
    integrities: Vec<Integrity>,
    prfs: Vec<Prf>,
    groups: Vec<Group>,
    /// Extended sequence numbers; nothing where both are offered.
    pub(super) extended: Option<bool>,
}

impl Transforms {
    /// Adds a transform; `None` if the word is not known for this SA.
    pub(super) fn add(&mut self, key: &str, word: &str, sa: Sa) -> Option<()> {
        let number = |rows: &[crate::platform::Name]| rows.iter().find(|row| row.word == word && row.sa.covers(sa)).map(|row| row.number);
        match key {
            "enc" => self.ciphers.push(FACTS.ciphers.iter().find(|row| row.word == word && row.sa.covers(sa))?.cipher),
            "auth" => self.integrities.push(Integrity(number(FACTS.integrities)?)),
            "prf" => self.prfs.push(Prf(number(FACTS.prfs)?)),
            "group" => self.groups.push(Group(number(FACTS.groups)?)),
            _ => return None,
        }
        Some(())
    }

    pub(super) fn ike(self) -> IkeProposal {
        IkeProposal { ciphers: self.ciphers, integrities: self.integrities, prfs: self.prfs, groups: self.groups }
    }

    pub(super) fn esp(self) -> EspProposal {
        EspProposal { ciphers: self.ciphers, integrities: self.integrities, groups: self.groups }
    }
}
