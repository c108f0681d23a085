//! Proposals as iked.conf(5) spells them: `enc`, `auth`, `prf` and `group`, each as often as there are alternatives.

use crate::dialect::Unwritable;
use crate::profile::names::one_mode;
use crate::profile::{Profile, Sa};
use uspan_model::algorithm::{Kind, Transform};
use uspan_model::gateway::{Proposal, Protocol};

/// What the kinds are called, in the order in which they are written.
const KEYS: [(&str, Kind); 4] = [("enc", Kind::Encryption), ("auth", Kind::Integrity), ("prf", Kind::Prf), ("group", Kind::KeyExchange)];

/// Sequence numbers of 64 and of 32 bits; without a word both are offered (iked.conf(5)).
pub(super) const SEQUENCE_NUMBERS: [(&str, Transform); 2] =
    [("esn", Transform::sequence_numbers(true)), ("noesn", Transform::sequence_numbers(false))];

/// Spells a proposal.
pub(super) fn write(profile: &Profile, proposal: &Proposal) -> Result<String, Unwritable> {
    one_mode(proposal)?;
    let sa = Sa::from(proposal.protocol);
    let mut out = if sa == Sa::Ike { "ikesa" } else { "childsa" }.to_owned();
    for (key, kind) in KEYS {
        for item in proposal.of(kind) {
            let word = profile.spelling(*item, sa).ok_or_else(|| {
                Unwritable::new(
                    format!("`{item}` for {}, which OpenIKED cannot do", sa.word()),
                    "Choose an algorithm that `uspan algorithms` lists for OpenIKED.",
                )
            })?;
            out.extend([" ", key, " ", word]);
        }
    }
    match proposal.of(Kind::SequenceNumbers) {
        [] => {}
        [one] if *one == Transform::sequence_numbers(false) => out.push_str(" noesn"),
        _ => {
            return Err(Unwritable::new("extended sequence numbers, which OpenIKED cannot tell the kernel on Linux", "Leave them out."));
        }
    }
    Ok(out)
}

/// A transform by its key and word; `None` if the word is not known for this SA.
pub(super) fn transform(profile: &Profile, key: &str, word: &str, protocol: Protocol) -> Option<Transform> {
    let (_, kind) = KEYS.iter().find(|(known, _)| *known == key)?;
    profile.algorithm(*kind, word).filter(|transform| profile.can(*transform, Sa::from(protocol)))
}
