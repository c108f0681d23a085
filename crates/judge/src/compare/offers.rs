//! What is to be said of two lists of proposals.

use std::fmt::Display;

use super::Assessment;
use crate::fits::proposals::{agreeable, nearest_two};
use uspan_model::gateway::Proposal;

/// A list, one proposal a line.
pub(super) fn words<T: Display>(list: &[T]) -> String {
    if list.is_empty() { "the platform's own list".to_owned() } else { list.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n") }
}

/// What two different lists come to.
pub(super) fn judge(names: &[String; 2], one: &[Proposal], other: &[Proposal], answer: &str) -> Assessment {
    if one.is_empty() || other.is_empty() {
        let silent = &names[usize::from(!one.is_empty())];
        return Assessment::compatible(format!(
            "Nothing is said at {silent}: it offers its own default list, which changes from version to version. Write the proposals down."
        ));
    }
    let fits = agreeable(one, other);
    let Some((first, _)) = fits.first() else {
        let differ = nearest_two(names.each_ref().map(String::as_str), one, other);
        let remedy = "Give both ends one proposal that is the same in every value; change whichever end is yours.";
        return Assessment::fatal(format!("The peer answers {answer}.{differ}"), remedy);
    };
    // The one that each end likes best of those that both have.
    let favourite = fits.iter().min_by_key(|(_, theirs)| *theirs).map_or(*first, |(own, _)| *own);
    if favourite == *first {
        return Assessment::compatible(format!("They agree on {}.", one[*first]));
    }
    Assessment::compatible(format!(
        "The order of preference is not the same: {} would rather have {}, {} {}. Who opens, and whose order the other follows, decides.",
        names[0], one[*first], names[1], one[favourite]
    ))
}

#[cfg(test)]
mod tests {
    use super::*;
    use uspan_model::algorithm::Transform;
    use uspan_model::gateway::Protocol;

    fn ike(cipher: Transform, integrities: &[u16], group: u16) -> Proposal {
        let hashes = integrities.iter().map(|number| Transform::integrity(*number));
        Proposal::new(Protocol::Ike, [cipher, Transform::prf(5), Transform::key_exchange(group)].into_iter().chain(hashes))
    }

    const CBC: Transform = Transform::encryption(12, 256);
    const GCM: Transform = Transform::encryption(20, 256);

    fn names() -> [String; 2] {
        ["here", "there"].map(str::to_owned)
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
