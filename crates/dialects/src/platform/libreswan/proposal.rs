//! Proposals as ipsec.conf(5) spells them: `cipher+cipher-integrity;group+group`.

use crate::dialect::Unwritable;
use crate::profile::names::one_mode;
use crate::profile::{Profile, Sa};
use uspan_model::algorithm::{Kind, Transform};
use uspan_model::gateway::{Proposal, Protocol};

fn spelled(profile: &Profile, list: &[Transform], sa: Sa) -> Result<String, Unwritable> {
    let words = list.iter().map(|item| {
        profile.spelling(*item, sa).ok_or_else(|| {
            Unwritable::new(
                format!("`{item}` for {}, which Libreswan cannot do", sa.word()),
                "Choose an algorithm that `uspan algorithms` lists for Libreswan.",
            )
        })
    });
    Ok(words.collect::<Result<Vec<_>, _>>()?.join("+"))
}

/// Spells a proposal: cipher, hash (for IKE integrity and PRF alike, or the PRF alone), group. Sequence numbers stand in a setting of
/// their own.
pub(super) fn write(profile: &Profile, proposal: &Proposal) -> Result<String, Unwritable> {
    one_mode(proposal)?;
    let sa = Sa::from(proposal.protocol);
    let integrities = proposal.of(Kind::Integrity);
    let hashes = match (proposal.protocol, integrities) {
        (Protocol::Ike, []) => proposal.of(Kind::Prf),
        (Protocol::Ike, _) if proposal.prfs_of_hashes() != proposal.of(Kind::Prf) => {
            return Err(Unwritable::new(
                "a PRF that differs from the integrity algorithm, which Libreswan cannot say",
                "Leave `prf` out, so that it follows from `integrity`.",
            ));
        }
        _ => integrities,
    };
    let mut text = spelled(profile, proposal.of(Kind::Encryption), sa)?;
    for (mark, list) in [('-', hashes), (';', proposal.of(Kind::KeyExchange))] {
        if !list.is_empty() || proposal.protocol == Protocol::Ike {
            text.push(mark);
            text.push_str(&spelled(profile, list, sa)?);
        }
    }
    Ok(text)
}

/// Reads a proposal.
pub(super) fn read(profile: &Profile, text: &str, protocol: Protocol) -> Option<Proposal> {
    let (front, groups) = text.split_once(';').unwrap_or((text, ""));
    let (ciphers, hashes) = front.split_once('-').unwrap_or((front, ""));
    let mut proposal = Proposal::new(protocol, []);
    // What the daemon cannot do in this SA is read all the same: it is judged elsewhere.
    let mut take = |kind: Kind, words: &str| {
        let words = words.split('+').filter(|word| kind == Kind::Encryption || !word.is_empty());
        words.map(|word| profile.algorithm(kind, word)).try_for_each(|found| found.map(|one| proposal.push(one)))
    };
    take(Kind::Encryption, ciphers)?;
    take(Kind::KeyExchange, groups)?;
    let alone = protocol == Protocol::Ike
        && ciphers.split('+').all(|word| profile.algorithm(Kind::Encryption, word).is_some_and(Transform::is_aead));
    take(if alone { Kind::Prf } else { Kind::Integrity }, hashes)?;
    if protocol == Protocol::Ike && !alone {
        proposal.prfs_of_hashes().into_iter().for_each(|prf| proposal.push(prf));
    }
    Some(proposal)
}
