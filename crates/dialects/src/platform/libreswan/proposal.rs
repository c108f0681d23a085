//! Proposals as ipsec.conf(5) spells them: `cipher+cipher-integrity;group+group`.

use crate::dialect::Unwritable;
use crate::profile::names::one_mode;
use crate::profile::{Profile, Sa};
use uspan_model::algorithm::{Kind, Transform};
use uspan_model::gateway::{IkeVersion, Proposal, Protocol};

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
    if proposal.protocol == Protocol::Ah {
        let groups = proposal.of(Kind::KeyExchange);
        let text = spelled(profile, integrities, sa)?;
        return Ok(if groups.is_empty() { text } else { text + ";" + &spelled(profile, groups, sa)? });
    }
    let mut text = spelled(profile, proposal.of(Kind::Encryption), sa)?;
    for (mark, list) in [('-', hashes), (';', proposal.of(Kind::KeyExchange))] {
        if !list.is_empty() || proposal.protocol == Protocol::Ike {
            text.push(mark);
            text.push_str(&spelled(profile, list, sa)?);
        }
    }
    Ok(text)
}

/// What ciphers are called, without the length of their keys (`algparse -v` of 4.10), and whether those have one.
#[rustfmt::skip]
const CIPHERS: &[(u16, bool, &[&str])] = &[
    (3, false, &["3des", "3des_cbc"]),
    (11, false, &["null"]),
    (12, true, &["aes", "aes_cbc"]),
    (13, true, &["aesctr", "aes_ctr"]),
    (14, true, &["aes_ccm_8", "aes_ccm_a"]),
    (15, true, &["aes_ccm_12", "aes_ccm_b"]),
    (16, true, &["aes_ccm", "aes_ccm_16", "aes_ccm_c"]),
    (18, true, &["aes_gcm_8", "aes_gcm_a"]),
    (19, true, &["aes_gcm_12", "aes_gcm_b"]),
    (20, true, &["aes_gcm", "aes_gcm_16", "aes_gcm_c"]),
    (21, true, &["null_auth_aes_gmac", "aes_gmac"]),
    (23, true, &["camellia", "camellia_cbc"]),
    (28, false, &["chacha20_poly1305", "chacha20poly1305"]),
];

/// The same of PRFs, of integrity algorithms, and of groups.
#[rustfmt::skip]
const PRFS: &[(u16, &[&str])] = &[
    (1, &["md5", "hmac_md5"]), (2, &["sha", "sha1", "hmac_sha1"]), (4, &["aes128_xcbc", "aes_xcbc"]),
    (5, &["sha2", "sha256", "sha2_256", "hmac_sha2_256"]), (6, &["sha384", "sha2_384", "hmac_sha2_384"]),
    (7, &["sha512", "sha2_512", "hmac_sha2_512"]),
];
#[rustfmt::skip]
const INTEGRITIES: &[(u16, &[&str])] = &[
    (0, &["none", "null"]),
    (1, &["md5", "hmac_md5", "hmac_md5_96"]), (2, &["sha", "sha1", "sha1_96", "hmac_sha1", "hmac_sha1_96"]),
    (5, &["aes_xcbc", "aes128_xcbc", "aes_xcbc_96", "aes128_xcbc_96"]), (8, &["aes_cmac", "aes_cmac_96"]),
    (12, &["sha2", "sha256", "sha2_256", "sha2_256_128", "hmac_sha2_256", "hmac_sha2_256_128"]),
    (13, &["sha384", "sha2_384", "sha2_384_192", "hmac_sha2_384", "hmac_sha2_384_192"]),
    (14, &["sha512", "sha2_512", "sha2_512_256", "hmac_sha2_512", "hmac_sha2_512_256"]),
];
#[rustfmt::skip]
const GROUPS: &[(u16, &[&str])] = &[
    (0, &["none", "null", "dh0"]),
    (5, &["modp1536", "dh5"]), (14, &["modp2048", "dh14"]), (15, &["modp3072", "dh15"]), (16, &["modp4096", "dh16"]),
    (17, &["modp6144", "dh17"]), (18, &["modp8192", "dh18"]), (19, &["dh19", "ecp_256", "ecp256"]), (20, &["dh20", "ecp_384", "ecp384"]),
    (21, &["dh21", "ecp_521", "ecp521"]), (31, &["dh31", "curve25519"]),
];

/// None of a kind (RFC 7296 section 3.3.2).
const NONE: u16 = 0;

/// The words of a proposal with what ends each.
struct Words<'a> {
    list: Vec<(&'a str, char)>,
    at: usize,
}

impl<'a> Words<'a> {
    fn of(text: &'a str) -> Words<'a> {
        let mut list = Vec::new();
        let mut rest = text;
        loop {
            match rest.find(['-', ';', '+']) {
                Some(end) => {
                    list.push((&rest[..end], char::from(rest.as_bytes()[end])));
                    rest = &rest[end + 1..];
                }
                None => {
                    list.push((rest, '\0'));
                    return Words { list, at: 0 };
                }
            }
        }
    }

    fn peek(&self) -> Option<&'a str> {
        self.list.get(self.at).map(|(word, _)| *word)
    }

    /// What ended the word before.
    fn before(&self) -> char {
        self.at.checked_sub(1).map_or('\0', |before| self.list[before].1)
    }

    /// Alternatives joined with `+`, of which the first must be one; nothing taken where it is none.
    fn alternatives(&mut self, of: impl Fn(&str) -> Option<Transform>) -> Option<Vec<Transform>> {
        let mut found = vec![of(self.peek()?)?];
        let mut at = self.at + 1;
        while self.list.get(at - 1).is_some_and(|(_, end)| *end == '+') {
            found.push(of(self.list.get(at)?.0)?);
            at += 1;
        }
        self.at = at;
        Some(found)
    }
}

fn named(kind: Kind, table: &[(u16, &[&str])], word: &str) -> Option<Transform> {
    let is_it = |words: &[&str]| words.iter().any(|one| one.eq_ignore_ascii_case(word));
    table.iter().find(|(_, words)| is_it(words)).map(|(number, _)| Transform::new(kind, *number))
}

/// Ciphers, each with the length of its key behind it, behind `_`, or behind `-` in a word of its own. Without a length the daemon
/// offers two: for IKE the longer one first, for ESP the shorter one.
fn ciphers(words: &mut Words<'_>, protocol: Protocol) -> Option<Vec<Transform>> {
    let (word, end) = *words.list.get(words.at)?;
    let word = word.to_ascii_lowercase();
    let of = |name: &str, bits: Option<u16>| {
        let (number, sized, _) = CIPHERS.iter().find(|(.., names)| names.contains(&name))?;
        let lengths: &[u16] = match (sized, bits, protocol) {
            (false, None, _) => &[0],
            // Its key has that length alone.
            (false, Some(256), _) if *number == 28 => &[0],
            (true, None, Protocol::Ike) => &[256, 128],
            (true, None, _) => &[128, 256],
            (true, Some(128), _) => &[128],
            (true, Some(192), _) => &[192],
            (true, Some(256), _) => &[256],
            _ => return None,
        };
        Some(lengths.iter().map(|bits| Transform::encryption(*number, *bits)).collect())
    };
    if let ('-', Some((next, _))) = (end, words.list.get(words.at + 1))
        && next.starts_with(|c: char| c.is_ascii_digit())
    {
        let found = of(&word, Some(next.parse().ok()?))?;
        words.at += 2;
        return Some(found);
    }
    let found = of(&word, None).or_else(|| {
        let name = word.trim_end_matches(|c: char| c.is_ascii_digit());
        let bits = word[name.len()..].parse().ok()?;
        of(name.strip_suffix('_').unwrap_or(name), Some(bits))
    })?;
    words.at += 1;
    Some(found)
}

/// Reads a proposal as far as it says something: the kinds that it leaves out are filled in by [`complete`]. Nothing where the daemon
/// refuses it.
pub(super) fn read(profile: &Profile, text: &str, protocol: Protocol) -> Option<Proposal> {
    let mut words = Words::of(text);
    let mut proposal = Proposal::new(protocol, []);
    if protocol != Protocol::Ah {
        loop {
            ciphers(&mut words, protocol)?.into_iter().for_each(|cipher| proposal.push(cipher));
            if words.before() != '+' {
                break;
            }
        }
    }
    let more = |words: &Words<'_>| words.peek().is_some() && words.before() != ';';
    let mut has_prf = false;
    if protocol == Protocol::Ike && more(&words) {
        // A hash alone is the PRF; integrity follows from it.
        if let Some(prfs) = words.alternatives(|word| named(Kind::Prf, PRFS, word)) {
            prfs.into_iter().for_each(|prf| proposal.push(prf));
            has_prf = true;
        }
    }
    if !has_prf && more(&words) {
        let found = words.alternatives(|word| named(Kind::Integrity, INTEGRITIES, word))?;
        found.into_iter().for_each(|one| proposal.push(one));
        if protocol == Protocol::Ike && more(&words) {
            words.alternatives(|word| named(Kind::Prf, PRFS, word))?.into_iter().for_each(|prf| proposal.push(prf));
        }
    }
    // An empty word behind the last mark is what this program's own earlier files have.
    if words.peek().is_some_and(|word| !word.is_empty()) {
        words.alternatives(|word| named(Kind::KeyExchange, GROUPS, word))?.into_iter().for_each(|group| proposal.push(group));
    } else {
        words.at = words.list.len();
    }
    if words.peek().is_some() {
        return None;
    }
    let ciphers = proposal.of(Kind::Encryption);
    let (combined, none) = (proposal.is_combined(), Transform::integrity(NONE));
    let integrities = proposal.of(Kind::Integrity);
    let fits = match protocol {
        Protocol::Ah => !integrities.is_empty() && !integrities.contains(&none),
        _ if combined => integrities.iter().all(|one| *one == none),
        _ => !integrities.contains(&none) && !ciphers.iter().any(|cipher| cipher.is_aead()),
    };
    let groups = proposal.of(Kind::KeyExchange);
    let group_fits = protocol != Protocol::Ike || groups.iter().all(|group| group.number != NONE);
    // What it cannot do in this SA it refuses.
    let sa = Sa::from(protocol);
    let able = proposal.transforms().iter().all(|one| one.number == NONE || profile.can(*one, sa) || one.kind == Kind::Prf);
    if !fits || !group_fits || !able {
        return None;
    }
    if combined && protocol != Protocol::Ah {
        proposal.set(Kind::Integrity, []);
    }
    // No group beside others is a choice; alone it is none.
    if proposal.of(Kind::KeyExchange).iter().all(|group| group.number == NONE) {
        proposal.set(Kind::KeyExchange, []);
    }
    Some(proposal)
}

/// Fills in what a proposal leaves out, as the daemon does.
pub(super) fn complete(profile: &Profile, proposal: &mut Proposal, version: IkeVersion) {
    let is_ike = proposal.protocol == Protocol::Ike;
    let offered = |kind: Kind| {
        let offers = if is_ike { profile.offers.ike(version) } else { profile.offers.esp(version) };
        offers.iter().map(|offer| offer.of(kind)).find(|list| !list.is_empty()).unwrap_or_default().to_vec()
    };
    match proposal.protocol {
        Protocol::Ike => {
            if proposal.of(Kind::Prf).is_empty() {
                match proposal.of(Kind::Integrity).is_empty() {
                    true => proposal.set(Kind::Prf, offered(Kind::Prf)),
                    false => proposal.set(Kind::Prf, proposal.prfs_of_hashes()),
                }
            }
            if proposal.of(Kind::Integrity).is_empty() && !proposal.is_combined() {
                let built_on = |prf: &Transform| {
                    Kind::Integrity
                        .rows()
                        .iter()
                        .map(Transform::of)
                        .find(|one| one.prf_of_hash() == Some(*prf) && profile.can(*one, Sa::Ike))
                };
                let hashes: Vec<_> = proposal.of(Kind::Prf).iter().filter_map(built_on).collect();
                proposal.set(Kind::Integrity, hashes);
            }
            if proposal.of(Kind::KeyExchange).is_empty() {
                proposal.set(Kind::KeyExchange, offered(Kind::KeyExchange));
            }
        }
        Protocol::Esp if proposal.of(Kind::Integrity).is_empty() && !proposal.is_combined() => {
            proposal.set(Kind::Integrity, offered(Kind::Integrity));
        }
        Protocol::Esp | Protocol::Ah => {}
    }
}
