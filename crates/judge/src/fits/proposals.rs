//! Proposals: what two ends can agree on (RFC 7296 section 2.7 and 3.3.6; RFC 2409 section 5).

use std::fmt;

use uspan_dialects::profile::Preference;
use uspan_model::algorithm::{Kind, Transform};
use uspan_model::gateway::{Proposal, Protocol, alternatives};

/// What was chosen: one transform of each kind that is negotiated.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Suite(Proposal);

impl Suite {
    /// The transform of a kind.
    pub(crate) fn of(&self, kind: Kind) -> Option<Transform> {
        self.0.first(kind)
    }

    /// The key exchange method.
    pub(crate) fn group(&self) -> Option<Transform> {
        self.of(Kind::KeyExchange)
    }

    /// The same with another key exchange method, or none.
    pub(crate) fn with_group(&self, group: Option<Transform>) -> Suite {
        Suite(self.0.with(Kind::KeyExchange, group))
    }

    /// Cipher and integrity algorithm.
    pub(crate) fn protection(&self) -> String {
        self.0.protection()
    }
}

impl fmt::Display for Suite {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0.protection())?;
        for (kind, lead) in [(Kind::Prf, "prf"), (Kind::KeyExchange, "group")] {
            if let Some(one) = self.of(kind) {
                write!(f, ", {lead} {one}")?;
            }
        }
        Ok(())
    }
}

/// What a responder chooses of what is offered.
pub(crate) fn choose(offered: &[Proposal], own: &[Proposal], preference: Preference) -> Option<Suite> {
    match preference {
        Preference::Own => own.iter().find_map(|mine| offered.iter().find_map(|theirs| fit(mine, theirs))),
        Preference::Peers => offered.iter().find_map(|theirs| own.iter().find_map(|mine| fit(theirs, mine))),
    }
}

/// The first transform of each kind in the first proposal that is in the other one, too; `None` if a kind has none.
fn fit(first: &Proposal, other: &Proposal) -> Option<Suite> {
    if first.protocol != other.protocol {
        return None;
    }
    let common = |kind: Kind| first.of(kind).iter().filter(move |one| other.of(kind).contains(one)).copied();
    let cipher = common(Kind::Encryption).next();
    let integrity = common(Kind::Integrity).next();
    // A combined-mode cipher does without integrity (RFC 7296 section 3.3); no other does.
    let (cipher, integrity) = match (cipher, integrity) {
        (Some(cipher), _) if cipher.is_aead() => (Some(cipher), None),
        (Some(_), None) if needs_integrity(first, other) => (Some(common(Kind::Encryption).find(|cipher| cipher.is_aead())?), None),
        (cipher, integrity) => (cipher, integrity),
    };
    let mut chosen = Proposal::new(first.protocol, cipher.into_iter().chain(integrity));
    for kind in negotiated(first, other) {
        match kind {
            Kind::Encryption if cipher.is_none() => return None,
            // AH is nothing else.
            Kind::Integrity if integrity.is_none() && first.protocol == Protocol::Ah => return None,
            Kind::Encryption | Kind::Integrity => {}
            _ if may_be_absent(kind, first, other) => {}
            _ => chosen.push(common(kind).next()?),
        }
    }
    Some(Suite(chosen))
}

/// Ciphers that are not combined-mode always have an integrity algorithm beside them.
fn needs_integrity(first: &Proposal, other: &Proposal) -> bool {
    !(first.is_combined() && other.is_combined())
}

/// The kinds that either of the two has.
fn negotiated(first: &Proposal, other: &Proposal) -> Vec<Kind> {
    let mut kinds = first.kinds();
    kinds.extend(other.kinds());
    kinds.sort_unstable();
    kinds.dedup();
    kinds
}

/// Whether one of the two says nothing of a kind of which the other says that it can do without (NONE, RFC 7296 section 3.3.2).
fn may_be_absent(kind: Kind, first: &Proposal, other: &Proposal) -> bool {
    let none = Transform::new(kind, 0);
    let [one, two] = [first.of(kind), other.of(kind)];
    matches!(kind, Kind::KeyExchange | Kind::AdditionalKeyExchange(_))
        && (one.is_empty() && two.contains(&none) || two.is_empty() && one.contains(&none))
}

/// The kinds in which two proposals have nothing in common.
pub(crate) fn differing(one: &Proposal, other: &Proposal) -> Vec<Kind> {
    let combined = one.of(Kind::Encryption).iter().any(|cipher| cipher.is_aead() && other.of(Kind::Encryption).contains(cipher));
    let shared = |kind: Kind| one.of(kind).iter().any(|value| other.of(kind).contains(value)) || may_be_absent(kind, one, other);
    // A combined-mode cipher needs no integrity.
    negotiated(one, other).into_iter().filter(|kind| !(shared(*kind) || *kind == Kind::Integrity && combined)).collect()
}

/// Pairs of proposals that can be agreed on, as indices, in the order of the first list.
pub(crate) fn agreeable(one: &[Proposal], other: &[Proposal]) -> Vec<(usize, usize)> {
    let pairs = one.iter().enumerate().flat_map(|(i, a)| other.iter().enumerate().map(move |(j, b)| (i, j, fit(a, b).is_some())));
    pairs.filter(|(.., fit)| *fit).map(|(i, j, _)| (i, j)).collect()
}

/// Proposals that two lists can agree on, each with what both have of it, in the order of the first; the first list itself where there
/// are none.
pub fn common(one: &[Proposal], other: &[Proposal]) -> Vec<Proposal> {
    if one == other {
        return one.to_vec();
    }
    let mut found: Vec<Proposal> = Vec::new();
    for (i, j) in agreeable(one, other) {
        let both = one[i].transforms().iter().copied().filter(|transform| other[j].transforms().contains(transform));
        let proposal = Proposal::new(one[i].protocol, both);
        if !found.contains(&proposal) {
            found.push(proposal);
        }
    }
    if found.is_empty() { one.to_vec() } else { found }
}

/// In what the two proposals that are nearest to each other differ, as a sentence with a space before it; nothing where one list is
/// empty.
pub(crate) fn nearest_two(names: [&str; 2], one: &[Proposal], other: &[Proposal]) -> String {
    let nearest = one.iter().flat_map(|a| other.iter().map(move |b| (a, b))).min_by_key(|(a, b)| differing(a, b).len());
    let differ = nearest.map(|(a, b)| {
        if a.protocol != b.protocol {
            return format!(" {} has {}, {} has {}.", names[0], a.protocol.words(), names[1], b.protocol.words());
        }
        let mut kinds = differing(a, b);
        // In the order in which a proposal is put in words.
        kinds.sort_by_key(|kind| (*kind > Kind::Integrity, *kind == Kind::Prf, *kind));
        let each = kinds.into_iter().map(|kind| {
            let say = |list: &[Transform]| if list.is_empty() { "none".to_owned() } else { alternatives(list).replace('|', ", ") };
            format!("{} ({} at {}, {} at {})", kind.word(), say(a.of(kind)), names[0], say(b.of(kind)), names[1])
        });
        let which = if one.len() == 1 && other.len() == 1 { "They" } else { "The two nearest" };
        format!(" {which} differ in {}.", each.collect::<Vec<_>>().join(" and "))
    });
    differ.unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    const CBC: Transform = Transform::encryption(12, 256);
    const GCM: Transform = Transform::encryption(20, 256);

    fn ike(cipher: Transform, integrities: &[u16], groups: &[u16]) -> Proposal {
        let hashes = integrities.iter().map(|number| Transform::integrity(*number));
        let groups = groups.iter().map(|number| Transform::key_exchange(*number));
        Proposal::new(Protocol::Ike, [cipher, Transform::prf(5)].into_iter().chain(hashes).chain(groups))
    }

    fn chosen(offered: &[Proposal], own: &[Proposal], preference: Preference) -> Option<String> {
        choose(offered, own, preference).map(|suite| suite.to_string())
    }

    #[test]
    fn whose_order_decides_among_proposals_and_within_them() {
        let (offered, own) = ([ike(GCM, &[], &[20, 19]), ike(CBC, &[12], &[20])], [ike(CBC, &[12], &[20]), ike(GCM, &[], &[19, 20])]);
        assert_eq!(chosen(&offered, &own, Preference::Own).as_deref(), Some("aes-256-cbc + sha2-256, prf sha2-256, group ecp-384"));
        assert_eq!(chosen(&offered, &own, Preference::Peers).as_deref(), Some("aes-256-gcm, prf sha2-256, group ecp-384"));
        let only = [ike(GCM, &[], &[19, 20])];
        assert_eq!(chosen(&offered, &only, Preference::Own).as_deref(), Some("aes-256-gcm, prf sha2-256, group ecp-256"));
    }

    #[test]
    fn a_value_of_each_kind_must_be_common() {
        let one = [ike(CBC, &[12], &[19])];
        for other in [ike(CBC, &[14], &[19]), ike(CBC, &[12], &[20]), ike(CBC, &[], &[19]), ike(CBC, &[12], &[]), ike(GCM, &[12], &[19])] {
            assert_eq!(chosen(&one, &[other], Preference::Own), None);
        }
        assert_eq!(chosen(&one, &[], Preference::Own), None);
        // A combined-mode cipher needs no integrity, whatever is offered beside it.
        assert!(chosen(&[ike(GCM, &[12], &[19])], &[ike(GCM, &[], &[19])], Preference::Own).is_some());
    }

    #[test]
    fn one_value_of_each_kind_is_enough() {
        assert_eq!(agreeable(&[ike(CBC, &[12], &[19])], &[ike(CBC, &[14, 12], &[19])]), [(0, 0)]);
        assert!(agreeable(&[ike(CBC, &[12], &[19])], &[ike(CBC, &[12], &[20])]).is_empty());
        // The one that needs no integrity does not miss it.
        assert_eq!(agreeable(&[ike(GCM, &[], &[19])], &[ike(GCM, &[12], &[19])]), [(0, 0)]);
        assert!(agreeable(&[ike(CBC, &[], &[19])], &[ike(CBC, &[12], &[19])]).is_empty());
    }

    #[test]
    fn another_protocol_or_another_length_of_sequence_numbers_does_not_fit() {
        let numbers = |wide| Proposal::new(Protocol::Esp, [GCM, Transform::sequence_numbers(wide)]);
        assert!(choose(&[numbers(true)], &[numbers(false)], Preference::Own).is_none());
        assert_eq!(differing(&numbers(true), &numbers(false)), [Kind::SequenceNumbers]);
        let either = Proposal::new(Protocol::Esp, [GCM, Transform::sequence_numbers(true), Transform::sequence_numbers(false)]);
        assert!(choose(&[either], &[numbers(false)], Preference::Own).is_some());
        let ah = Proposal::new(Protocol::Ah, [Transform::integrity(12), Transform::sequence_numbers(false)]);
        let esp = Proposal::new(Protocol::Esp, [CBC, Transform::integrity(12), Transform::sequence_numbers(false)]);
        assert!(fit(&ah, &esp).is_none());
        assert!(fit(&ah, &ah).is_some());
        assert!(fit(&ah, &ah.with(Kind::Integrity, [Transform::integrity(2)])).is_none());
        assert_eq!(nearest_two(["here", "there"], &[ah], &[esp]), " here has AH, there has ESP.");
    }

    #[test]
    fn a_further_key_exchange_is_needed_unless_there_may_be_none() {
        let hybrid = |methods: &[u16]| {
            let more = methods.iter().map(|number| Transform::new(Kind::AdditionalKeyExchange(1), *number));
            ike(GCM, &[], &[19]).with(Kind::AdditionalKeyExchange(1), more)
        };
        let plain = ike(GCM, &[], &[19]);
        assert!(fit(&hybrid(&[36]), &plain).is_none());
        assert!(fit(&hybrid(&[36, 0]), &plain).is_some());
        let both = fit(&hybrid(&[36]), &hybrid(&[35, 36])).expect("they agree");
        assert_eq!(both.of(Kind::AdditionalKeyExchange(1)).map(|one| one.number), Some(36));
    }

    #[test]
    fn what_both_have_stays_of_each_pair() {
        let one = [ike(CBC, &[12, 14], &[19, 20])];
        assert_eq!(common(&one, &[ike(CBC, &[14], &[20])]), [ike(CBC, &[14], &[20])]);
        assert_eq!(common(&one, &[ike(GCM, &[], &[20])]), one);
    }
}
