//! What two lists of proposals have in common.

use std::fmt::Display;

use super::Verdict;
use crate::algorithm::Cipher;
use crate::gateway::{EspProposal, IkeProposal};

/// A proposal, as lists of values by kind.
pub(crate) trait Offer: Display + Clone + PartialEq {
    /// The kinds, in the order of [`Offer::values`].
    const KINDS: &'static [&'static str];

    fn ciphers(&self) -> &[Cipher];

    /// The values of each kind, in words; those that the first exchange of an SA does not carry are left out.
    fn values(&self) -> Vec<Vec<String>>;
}

fn in_words<T: ToString>(list: &[T]) -> Vec<String> {
    list.iter().map(ToString::to_string).collect()
}

impl Offer for IkeProposal {
    const KINDS: &'static [&'static str] = &["encryption", "integrity", "prf", "group"];

    fn ciphers(&self) -> &[Cipher] {
        &self.ciphers
    }

    fn values(&self) -> Vec<Vec<String>> {
        vec![in_words(&self.ciphers), in_words(&self.integrities), in_words(&self.prfs), in_words(&self.groups)]
    }
}

impl Offer for EspProposal {
    const KINDS: &'static [&'static str] = &["encryption", "integrity"];

    fn ciphers(&self) -> &[Cipher] {
        &self.ciphers
    }

    fn values(&self) -> Vec<Vec<String>> {
        vec![in_words(&self.ciphers), in_words(&self.integrities)]
    }
}

/// A list, one proposal a line.
pub(super) fn words<T: Display>(list: &[T]) -> String {
    if list.is_empty() { "the platform's own list".to_owned() } else { list.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n") }
}

/// The kinds in which two proposals have nothing in common (RFC 7296 section 3.3.6: one value of each kind is chosen).
fn apart<T: Offer>(one: &T, other: &T) -> Vec<usize> {
    let (first, second) = (one.values(), other.values());
    let shared = |kind: usize| first[kind].iter().any(|value| second[kind].contains(value));
    let combined = one.ciphers().iter().any(|cipher| cipher.is_aead() && other.ciphers().contains(cipher));
    let empty = |kind: usize| first[kind].is_empty() && second[kind].is_empty();
    // A combined-mode cipher needs no integrity.
    (0..T::KINDS.len()).filter(|kind| !(shared(*kind) || empty(*kind) || T::KINDS[*kind] == "integrity" && combined)).collect()
}

/// Pairs of proposals that can be agreed on, as indices, in the order of the first list.
pub(super) fn common<T: Offer>(one: &[T], other: &[T]) -> Vec<(usize, usize)> {
    let pairs = one.iter().enumerate().flat_map(|(i, a)| other.iter().enumerate().map(move |(j, b)| (i, j, apart(a, b).is_empty())));
    pairs.filter(|(.., fit)| *fit).map(|(i, j, _)| (i, j)).collect()
}

/// In what the two proposals that are nearest to each other differ, as a sentence with a space before it; nothing where one
/// list is empty.
pub(crate) fn nearest_two<T: Offer>(names: [&str; 2], one: &[T], other: &[T]) -> String {
    let nearest = one.iter().flat_map(|a| other.iter().map(move |b| (a, b))).min_by_key(|(a, b)| apart(*a, *b).len());
    let differ = nearest.map(|(a, b)| {
        let (first, second) = (a.values(), b.values());
        let each = apart(a, b).into_iter().map(|kind| {
            let say = |list: &[String]| if list.is_empty() { "none".to_owned() } else { list.join(", ") };
            format!("{} ({} at {}, {} at {})", T::KINDS[kind], say(&first[kind]), names[0], say(&second[kind]), names[1])
        });
        let which = if one.len() == 1 && other.len() == 1 { "They" } else { "The two nearest" };
        format!(" {which} differ in {}.", each.collect::<Vec<_>>().join(" and "))
    });
    differ.unwrap_or_default()
}

/// What two different lists come to.
pub(super) fn judge<T: Offer>(names: &[String; 2], one: &[T], other: &[T], answer: &str) -> Verdict {
    if one.is_empty() || other.is_empty() {
        let silent = &names[usize::from(!one.is_empty())];
        return Verdict::compatible(format!(
            "Nothing is said at {silent}: it offers its own default list, which changes from version to version. Write the proposals down."
        ));
    }
    let fits = common(one, other);
    let Some((first, _)) = fits.first() else {
        let differ = nearest_two(names.each_ref().map(String::as_str), one, other);
        let remedy = "Give both ends one proposal that is the same in every value; change whichever end is yours.";
        return Verdict::fatal(format!("The peer answers {answer}.{differ}"), remedy);
    };
    // The one that each end likes best of those that both have.
    let favourite = fits.iter().min_by_key(|(_, theirs)| *theirs).map_or(*first, |(own, _)| *own);
    if favourite == *first {
        return Verdict::compatible(format!("They agree on {}.", one[*first]));
    }
    Verdict::compatible(format!(
        "The order of preference is not the same: {} would rather have {}, {} {}. Who opens, and whose order the other follows, decides.",
        names[0], one[*first], names[1], one[favourite]
    ))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::algorithm::{Group, Integrity, Prf};

    fn ike(cipher: Cipher, integrities: &[u16], group: u16) -> IkeProposal {
        IkeProposal {
            ciphers: vec![cipher],
            integrities: integrities.iter().map(|number| Integrity(*number)).collect(),
            prfs: vec![Prf(5)],
            groups: vec![Group(group)],
        }
    }

    const CBC: Cipher = Cipher { number: 12, key_bits: 256 };
    const GCM: Cipher = Cipher { number: 20, key_bits: 256 };

    fn names() -> [String; 2] {
        ["here", "there"].map(str::to_owned)
    }

    #[test]
    fn one_value_of_each_kind_is_enough() {
        assert_eq!(common(&[ike(CBC, &[12], 19)], &[ike(CBC, &[14, 12], 19)]), [(0, 0)]);
        assert!(common(&[ike(CBC, &[12], 19)], &[ike(CBC, &[12], 20)]).is_empty());
        // The one that needs no integrity does not miss it.
        assert_eq!(common(&[ike(GCM, &[], 19)], &[ike(GCM, &[12], 19)]), [(0, 0)]);
        assert!(common(&[ike(CBC, &[], 19)], &[ike(CBC, &[12], 19)]).is_empty());
    }

    #[test]
    fn the_one_hash_that_differs_is_named() {
        let verdict = judge(&names(), &[ike(CBC, &[12], 19)], &[ike(CBC, &[14], 19), ike(GCM, &[], 20)], "NO_PROPOSAL_CHOSEN");
        assert!(verdict.practice.contains("differ in integrity (sha2-256 at here, sha2-512 at there)"), "{}", verdict.practice);
    }

    #[test]
    fn a_list_that_is_not_said_is_not_guessed() {
        let verdict = judge(&names(), &[], &[ike(CBC, &[12], 19)], "");
        assert!(verdict.practice.starts_with("Nothing is said at here"), "{}", verdict.practice);
    }

    #[test]
    fn an_inverse_order_is_no_failure_and_is_said() {
        let (one, other) = (ike(CBC, &[12], 19), ike(GCM, &[], 19));
        let verdict = judge(&names(), &[one.clone(), other.clone()], &[other, one], "");
        assert!(verdict.practice.contains("order of preference"), "{}", verdict.practice);
        assert_eq!(verdict.gravity, super::super::Gravity::Compatible);
    }
}
