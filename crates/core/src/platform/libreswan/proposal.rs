//! Proposals as ipsec.conf(5) spells them: `cipher+cipher-integrity;group+group`.

use super::facts::FACTS;
use crate::algorithm::{Cipher, Group, Integrity, Prf};
use crate::dialect::Unwritable;
use crate::gateway::{EspProposal, IkeProposal};
use crate::platform::Sa;
use crate::platform::names::one_mode;

fn spelled<T: Copy + std::fmt::Display>(list: &[T], sa: Sa, spell: impl Fn(T) -> Option<&'static str>) -> Result<String, Unwritable> {
    let words = list.iter().map(|item| {
        spell(*item).ok_or_else(|| {
            Unwritable::new(
                format!("`{item}` for {}, which Libreswan cannot do", sa.word()),
                "Choose an algorithm that `uspan algorithms` lists for Libreswan.",
            )
        })
    });
    Ok(words.collect::<Result<Vec<_>, _>>()?.join("+"))
}

/// Spells an IKE proposal: cipher, hash (integrity and PRF alike, or the PRF alone), group.
pub(super) fn write_ike(proposal: &IkeProposal) -> Result<String, Unwritable> {
    one_mode(&proposal.ciphers)?;
    let following: Vec<_> = proposal.integrities.iter().filter_map(|i| i.prf()).collect();
    if !proposal.integrities.is_empty() && following != proposal.prfs {
        return Err(Unwritable::new(
            "a PRF that differs from the integrity algorithm, which Libreswan cannot say",
            "Leave `prf` out, so that it follows from `integrity`.",
        ));
    }
    let ciphers = spelled(&proposal.ciphers, Sa::Ike, |c| FACTS.cipher(c, Sa::Ike))?;
    let hashes = match proposal.integrities.is_empty() {
        true => spelled(&proposal.prfs, Sa::Ike, |p| FACTS.prf(p))?,
        false => spelled(&proposal.integrities, Sa::Ike, |i| FACTS.integrity(i, Sa::Ike))?,
    };
    let groups = spelled(&proposal.groups, Sa::Ike, |g| FACTS.group(g))?;
    Ok(format!("{ciphers}-{hashes};{groups}"))
}

/// Spells an ESP proposal, with its PFS groups.
pub(super) fn write_esp(proposal: &EspProposal) -> Result<String, Unwritable> {
    one_mode(&proposal.ciphers)?;
    let mut text = spelled(&proposal.ciphers, Sa::Esp, |c| FACTS.cipher(c, Sa::Esp))?;
    if !proposal.integrities.is_empty() {
        text.push('-');
        text.push_str(&spelled(&proposal.integrities, Sa::Esp, |i| FACTS.integrity(i, Sa::Esp))?);
    }
    if !proposal.groups.is_empty() {
        text.push(';');
        text.push_str(&spelled(&proposal.groups, Sa::Esp, |g| FACTS.group(g))?);
    }
    Ok(text)
}

struct Parts<'a> {
    ciphers: Vec<Cipher>,
    hashes: Vec<&'a str>,
    groups: Vec<Group>,
}

fn split(text: &str) -> Option<Parts<'_>> {
    let (front, groups) = text.split_once(';').unwrap_or((text, ""));
    let (ciphers, hashes) = front.split_once('-').unwrap_or((front, ""));
    Some(Parts {
        ciphers: ciphers.split('+').map(|w| FACTS.ciphers.iter().find(|row| row.word == w).map(|row| row.cipher)).collect::<Option<_>>()?,
        hashes: hashes.split('+').filter(|w| !w.is_empty()).collect(),
        groups: groups
            .split('+')
            .filter(|w| !w.is_empty())
            .map(|w| FACTS.groups.iter().find(|row| row.word == w).map(|row| Group(row.number)))
            .collect::<Option<_>>()?,
    })
}

fn integrities(words: &[&str]) -> Option<Vec<Integrity>> {
    words.iter().map(|w| FACTS.integrities.iter().find(|row| row.word == *w).map(|row| Integrity(row.number))).collect()
}

/// Reads an IKE proposal.
pub(super) fn read_ike(text: &str) -> Option<IkeProposal> {
    let parts = split(text)?;
    let (integrities, prfs) = if parts.ciphers.iter().all(|c| c.is_aead()) {
        let prfs = parts.hashes.iter().map(|w| FACTS.prfs.iter().find(|row| row.word == *w).map(|row| Prf(row.number)));
        (Vec::new(), prfs.collect::<Option<Vec<_>>>()?)
    } else {
        let integrities = integrities(&parts.hashes)?;
        let prfs = integrities.iter().filter_map(|i| i.prf()).collect();
        (integrities, prfs)
    };
    Some(IkeProposal { ciphers: parts.ciphers, integrities, prfs, groups: parts.groups })
}

/// Reads an ESP proposal.
pub(super) fn read_esp(text: &str) -> Option<EspProposal> {
    let parts = split(text)?;
    Some(EspProposal { ciphers: parts.ciphers, integrities: integrities(&parts.hashes)?, groups: parts.groups })
}
