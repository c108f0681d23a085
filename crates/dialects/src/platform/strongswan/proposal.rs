//! Proposals as swanctl.conf(5) spells them: words joined with `-`.

use crate::dialect::Unwritable;
use crate::profile::names::one_mode;
use crate::profile::{Profile, Sa};
use uspan_model::algorithm::{Kind, Transform};
use uspan_model::gateway::{IkeVersion, Proposal, Protocol};

/// The kinds in the order in which they are written.
const ORDER: [Kind; 4] = [Kind::Encryption, Kind::Integrity, Kind::Prf, Kind::KeyExchange];

/// Sequence numbers, among the words of a proposal for ESP; without a word they have 32 bits.
const SEQUENCE_NUMBERS: [(&str, Transform); 2] =
    [("esn", Transform::sequence_numbers(true)), ("noesn", Transform::sequence_numbers(false))];

const fn aes(number: u16, key_bits: u16) -> Transform {
    Transform::encryption(number, key_bits)
}

/// Words beside those that are written, with the same meaning (the keyword table of 5.9.8). Ciphers in combined mode are spelled with the
/// length of their check value in bytes or in bits, or without it.
#[rustfmt::skip]
const FURTHER: &[(&str, Transform)] = &[
    ("aes", aes(12, 128)), ("camellia", aes(23, 128)),
    ("camellia128ctr", aes(24, 128)), ("camellia192ctr", aes(24, 192)), ("camellia256ctr", aes(24, 256)),
    ("sha", Transform::integrity(2)), ("sha1_160", Transform::integrity(7)), ("md5_128", Transform::integrity(6)),
    ("sha2_256", Transform::integrity(12)), ("sha2_384", Transform::integrity(13)), ("sha2_512", Transform::integrity(14)),
    ("x25519", Transform::key_exchange(31)), ("x448", Transform::key_exchange(32)),
    ("none", Transform::key_exchange(0)), ("modpnone", Transform::key_exchange(0)),
];

/// Words of the same table for algorithms without a number in the IANA registries, or with keys that those do not have.
const OUTSIDE: &[&str] = &[
    "blowfish",
    "blowfish128",
    "blowfish192",
    "blowfish256",
    "cast128",
    "serpent",
    "serpent128",
    "serpent192",
    "serpent256",
    "twofish",
    "twofish128",
    "twofish192",
    "twofish256",
    "chacha20poly1305compat",
    "sha256_96",
    "sha2_256_96",
    "camelliaxcbc",
    "prfcamelliaxcbc",
    "modpnull",
    "ntru112",
    "ntru128",
    "ntru192",
    "ntru256",
    "newhope128",
];

/// The word for what the daemon offers by itself.
const DEFAULT: &str = "default";

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

/// A cipher in combined mode: `aes128gcm16`, `aes128gcm128`, `aes128gcm`.
fn combined(word: &str) -> Option<Transform> {
    for (mode, numbers) in [("gcm", [18, 19, 20]), ("ccm", [14, 15, 16]), ("camellia", [25, 26, 27])] {
        let (name, between) = if mode == "camellia" { ("camellia", "ccm") } else { ("aes", mode) };
        let Some((key, check)) = word.strip_prefix(name).and_then(|rest| rest.split_once(between)) else { continue };
        let key: u16 = key.parse().ok().filter(|bits| [128, 192, 256].contains(bits))?;
        let place = match check {
            "8" | "64" => 0,
            "12" | "96" => 1,
            "16" | "128" => 2,
            "" if name == "aes" => 2,
            _ => return None,
        };
        return Some(Transform::encryption(numbers[place], key));
    }
    None
}

fn transform(profile: &Profile, word: &str) -> Option<Transform> {
    let pair = |list: &'static [(&str, Transform)]| list.iter().find(|(known, _)| *known == word).map(|(_, transform)| *transform);
    // What the daemon cannot do in this SA is read all the same: it is judged elsewhere.
    pair(&SEQUENCE_NUMBERS).or_else(|| profile.algorithm_of(&ORDER, word)).or_else(|| pair(FURTHER)).or_else(|| combined(word))
}

/// Whether the daemon takes a proposal that is not understood: its words are all in the daemon's table.
pub(super) fn is_outside(profile: &Profile, text: &str) -> bool {
    text.split('-').all(|word| OUTSIDE.contains(&word) || transform(profile, word).is_some())
        && text.split('-').any(|word| OUTSIDE.contains(&word))
}

/// Reads what stands for one proposal, or for those that the daemon offers by itself. Without a PRF word the PRFs follow from the integrity
/// algorithms; without one of sequence numbers those have 32 bits. Nothing where the daemon refuses it.
pub(super) fn read(profile: &Profile, text: &str, protocol: Protocol) -> Option<Vec<Proposal>> {
    if text.eq_ignore_ascii_case(DEFAULT) {
        return Some(match protocol {
            Protocol::Ike => profile.offers.ike(IkeVersion::V2),
            Protocol::Esp => profile.offers.esp(IkeVersion::V2),
            Protocol::Ah => return None,
        });
    }
    let mut proposal = Proposal::new(protocol, []);
    for word in text.split('-') {
        proposal.push(transform(profile, word)?);
    }
    if protocol != Protocol::Ah && proposal.of(Kind::Encryption).is_empty() {
        return None;
    }
    let mixed = !proposal.is_combined() && proposal.of(Kind::Encryption).iter().any(|cipher| cipher.is_aead());
    match protocol {
        Protocol::Ike => {
            proposal.set(Kind::SequenceNumbers, []);
            if proposal.of(Kind::Prf).is_empty() {
                proposal.prfs_of_hashes().into_iter().for_each(|prf| proposal.push(prf));
            }
            let groups: Vec<_> = proposal.of(Kind::KeyExchange).iter().filter(|group| group.number != 0).copied().collect();
            proposal.set(Kind::KeyExchange, groups);
            let bare = !proposal.is_combined() && proposal.of(Kind::Integrity).is_empty();
            if mixed || bare || proposal.of(Kind::Prf).is_empty() || proposal.of(Kind::KeyExchange).is_empty() {
                return None;
            }
        }
        Protocol::Esp | Protocol::Ah => {
            proposal.set(Kind::Prf, []);
            if proposal.of(Kind::SequenceNumbers).is_empty() {
                proposal.push(Transform::sequence_numbers(false));
            }
            // No group beside others is a choice; alone it is none.
            if proposal.of(Kind::KeyExchange).iter().all(|group| group.number == 0) {
                proposal.set(Kind::KeyExchange, []);
            }
            if mixed {
                return None;
            }
        }
    }
    match protocol {
        Protocol::Ah => {
            // The cipher that only authenticates counts as an integrity algorithm there, any other not at all.
            let gmac = |cipher: &Transform| match (cipher.number, cipher.key_bits) {
                (21, 128) => Some(9),
                (21, 192) => Some(10),
                (21, _) => Some(11),
                _ => None,
            };
            let hashes: Vec<_> = proposal.of(Kind::Encryption).iter().filter_map(gmac).map(Transform::integrity).collect();
            proposal.set(Kind::Encryption, []);
            hashes.into_iter().for_each(|hash| proposal.push(hash));
            (!proposal.of(Kind::Integrity).is_empty()).then(|| vec![proposal])
        }
        _ => {
            if proposal.is_combined() {
                proposal.set(Kind::Integrity, []);
            }
            Some(vec![proposal])
        }
    }
}
