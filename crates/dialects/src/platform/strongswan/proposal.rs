//! Proposals as swanctl.conf(5) spells them: words joined with `-`.

use crate::dialect::Unwritable;
use crate::profile::names::one_mode;
use crate::profile::{Profile, Sa};
use uspan_model::algorithm::{Kind, Transform};
use uspan_model::gateway::{Proposal, Protocol};

/// The kinds in the order in which they are written.
const ORDER: [Kind; 4] = [Kind::Encryption, Kind::Integrity, Kind::Prf, Kind::KeyExchange];

/// Sequence numbers, among the words of a proposal for ESP; without a word they have 32 bits.
const SEQUENCE_NUMBERS: [(&str, Transform); 2] =
    [("esn", Transform::sequence_numbers(true)), ("noesn", Transform::sequence_numbers(false))];

/// Spells a proposal; the PRF is always written out, sequence numbers where they are not 32 bits alone.
pub(super) fn write(profile: &Profile, proposal: &Proposal) -> Result<String, Unwritable> {
    let sa = Sa::from(proposal.protocol);
    one_mode(proposal)?;
    let mut words = Vec::new();
    for transform in ORDER.iter().flat_map(|kind| proposal.of(*kind)) {
        words.push(profile.spelling(*transform, sa).ok_or_else(|| {
            Unwritable::new(
                format!("`{transform}` for {}, which strongSwan cannot do", sa.word()),
                "Choose an algorithm that `uspan algorithms` lists for strongSwan.",
            )
        })?);
    }
    let numbers = proposal.of(Kind::SequenceNumbers);
    if numbers != [Transform::sequence_numbers(false)] {
        words.extend(numbers.iter().flat_map(|one| SEQUENCE_NUMBERS.iter().filter(move |(_, known)| known == one)).map(|(word, _)| *word));
    }
    Ok(words.join("-"))
}

/// Reads a proposal. Without a PRF word the PRFs follow from the integrity algorithms; without one of sequence numbers those have 32
/// bits.
pub(super) fn read(profile: &Profile, text: &str, protocol: Protocol) -> Option<Proposal> {
    let mut proposal = Proposal::new(protocol, []);
    for word in text.split('-') {
        let numbers = SEQUENCE_NUMBERS.iter().find(|(known, _)| *known == word).map(|(_, transform)| *transform);
        // What the daemon cannot do in this SA is read all the same: it is judged elsewhere.
        let known = || profile.algorithm_of(&ORDER, word);
        proposal.push(numbers.or_else(known)?);
    }
    match protocol {
        Protocol::Ike => {
            proposal.set(Kind::SequenceNumbers, []);
            if proposal.of(Kind::Prf).is_empty() {
                proposal.prfs_of_hashes().into_iter().for_each(|prf| proposal.push(prf));
            }
        }
        Protocol::Esp | Protocol::Ah => {
            proposal.set(Kind::Prf, []);
            if proposal.of(Kind::SequenceNumbers).is_empty() {
                proposal.push(Transform::sequence_numbers(false));
            }
        }
    }
    Some(proposal)
}
