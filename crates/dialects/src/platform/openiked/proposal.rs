//! Proposals as iked.conf(5) spells them: `enc`, `auth`, `prf` and `group`, each as often as there are alternatives.

use super::syntax::BETWEEN;
use crate::dialect::Unwritable;
use crate::profile::names::one_mode;
use crate::profile::statement::{Value, of_another_kind};
use crate::profile::{Profile, Sa};
use uspan_model::algorithm::{Kind, Transform};
use uspan_model::gateway::{IkeVersion, Proposal, Protocol};

/// What the kinds are called, in the order in which they are written.
const KEYS: [(&str, Kind); 4] = [("enc", Kind::Encryption), ("auth", Kind::Integrity), ("prf", Kind::Prf), ("group", Kind::KeyExchange)];

/// Sequence numbers of 64 and of 32 bits; without a word both are offered (iked.conf(5)).
const SEQUENCE_NUMBERS: [(&str, Transform); 2] =
    [("esn", Transform::sequence_numbers(true)), ("noesn", Transform::sequence_numbers(false))];

/// Spells proposals, without the keyword of their SA.
pub(super) fn write(profile: &Profile, value: &Value) -> Result<String, Vec<Unwritable>> {
    let Value::Proposals(list) = value else { return Err(of_another_kind()) };
    let words: Result<Vec<_>, _> = list.iter().map(|proposal| spelled(profile, proposal)).collect();
    words.map(|words| words.join(BETWEEN)).map_err(|refused| vec![refused])
}

fn spelled(profile: &Profile, proposal: &Proposal) -> Result<String, Unwritable> {
    one_mode(proposal)?;
    let sa = Sa::from(proposal.protocol);
    let mut words = Vec::new();
    for (key, kind) in KEYS {
        for item in proposal.of(kind) {
            let word = profile.spelling(*item, sa).ok_or_else(|| {
                Unwritable::new(
                    format!("`{item}` for {}, which OpenIKED cannot do", sa.word()),
                    "Choose an algorithm that `uspan algorithms` lists for OpenIKED.",
                )
            })?;
            words.extend([key, word]);
        }
    }
    match proposal.of(Kind::SequenceNumbers) {
        [] => {}
        [one] if *one == Transform::sequence_numbers(false) => words.push("noesn"),
        _ => {
            return Err(Unwritable::new("extended sequence numbers, which OpenIKED cannot tell the kernel on Linux", "Leave them out."));
        }
    }
    Ok(words.join(" "))
}

/// A word of a proposal that is no transform.
pub(super) struct WrongWord<'a> {
    /// Its place among the words.
    pub(super) at: usize,
    /// The kind that it is said for.
    pub(super) key: &'a str,
    /// The word; nothing where it is missing.
    pub(super) word: Option<&'a str>,
}

/// The transforms of a proposal, as its words say.
pub(super) fn transforms<'a>(profile: &Profile, words: &[&'a str], protocol: Protocol) -> Vec<Result<Transform, WrongWord<'a>>> {
    let (mut found, mut at) = (Vec::new(), 0);
    while let Some(key) = words.get(at) {
        if let Some((_, numbers)) = SEQUENCE_NUMBERS.iter().find(|(word, _)| word == key) {
            found.push(Ok(*numbers));
            at += 1;
            continue;
        }
        let word = words.get(at + 1).copied();
        let known = word.and_then(|word| transform(profile, key, word, protocol));
        found.push(known.ok_or(WrongWord { at: at + usize::from(word.is_some()), key, word }));
        at += 2;
    }
    found
}

/// Words beside those that are written, with the same meaning (iked.conf(5)).
const FURTHER: [(&str, Transform); 2] = [("3des-cbc", Transform::encryption(3, 0)), ("none", Transform::key_exchange(0))];

/// A group by its number: `grp14`.
fn numbered(word: &str) -> Option<Transform> {
    Some(Transform::key_exchange(word.strip_prefix("grp")?.parse().ok()?))
}

/// The proposals that the daemon makes of one: of the kinds that are left out it takes its own, and where no cipher is named those in
/// combined mode and the others each make one.
fn complete(profile: &Profile, said: &Proposal) -> Vec<Proposal> {
    let own = if said.protocol == Protocol::Ike { profile.offers.ike(IkeVersion::V2) } else { profile.offers.esp(IkeVersion::V2) };
    let combined = !said.of(Kind::Encryption).is_empty() && said.is_combined();
    let names_none = said.of(Kind::Encryption).is_empty();
    let fits = |own: &&Proposal| {
        if names_none { said.of(Kind::Integrity).is_empty() || !own.is_combined() } else { own.is_combined() == combined }
    };
    let with = |own: &Proposal| {
        let mut made = own.clone();
        for kind in said.kinds() {
            made.set(kind, said.of(kind).iter().copied());
        }
        if combined {
            made.set(Kind::Integrity, []);
        }
        made
    };
    let made: Vec<_> = own.iter().filter(fits).map(with).collect();
    if made.is_empty() { vec![said.clone()] } else { made }
}

/// Reads a proposal; nothing where the daemon does not have all of its words here.
pub(super) fn read(profile: &Profile, text: &str, protocol: Protocol) -> Option<Value> {
    let words: Vec<_> = text.split(' ').filter(|word| !word.is_empty()).collect();
    let known = transforms(profile, &words, protocol).into_iter().collect::<Result<Vec<_>, _>>().ok()?;
    let mut proposal = Proposal::new(protocol, known);
    // No group beside others is a choice; alone it is none.
    if proposal.of(Kind::KeyExchange).iter().all(|group| group.number == 0) {
        proposal.set(Kind::KeyExchange, []);
    }
    if protocol == Protocol::Ike {
        return Some(Value::Proposals(complete(profile, &proposal.without(Kind::SequenceNumbers))));
    }
    if proposal.of(Kind::SequenceNumbers).is_empty() {
        proposal.push(Transform::sequence_numbers(false));
    }
    Some(Value::Proposals(complete(profile, &proposal.without(Kind::Prf))))
}

/// A transform by its key and word; `None` if the word is not known for this SA.
fn transform(profile: &Profile, key: &str, word: &str, protocol: Protocol) -> Option<Transform> {
    let (_, kind) = KEYS.iter().find(|(known, _)| *known == key)?;
    let further = FURTHER.iter().find(|(known, transform)| *known == word && transform.kind == *kind).map(|(_, transform)| *transform);
    let found = profile.algorithm(*kind, word).or(further).or_else(|| numbered(word).filter(|_| *kind == Kind::KeyExchange))?;
    (found.number == 0 || profile.can(found, Sa::from(protocol))).then_some(found)
}
