//! Which proposal is chosen (RFC 7296 section 2.7 and 3.3.6; RFC 2409 section 5).

use std::fmt;

use crate::algorithm::{Cipher, Group, Integrity, Prf};
use crate::gateway::{EspProposal, IkeProposal};
use crate::platform::Preference;

/// One value of each kind.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Suite {
    pub cipher: Cipher,
    pub integrity: Option<Integrity>,
    pub prf: Option<Prf>,
    pub group: Option<Group>,
}

impl fmt::Display for Suite {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.cipher)?;
        if let Some(integrity) = self.integrity {
            write!(f, " + {integrity}")?;
        }
        if let Some(prf) = self.prf {
            write!(f, ", prf {prf}")?;
        }
        match self.group {
            Some(group) => write!(f, ", group {group}"),
            None => Ok(()),
        }
    }
}

/// A proposal as lists, whatever it is for.
#[derive(Clone, Copy)]
pub(super) struct Lists<'a> {
    ciphers: &'a [Cipher],
    integrities: &'a [Integrity],
    prfs: &'a [Prf],
    groups: &'a [Group],
}

impl<'a> From<&'a IkeProposal> for Lists<'a> {
    fn from(proposal: &'a IkeProposal) -> Self {
        Lists { ciphers: &proposal.ciphers, integrities: &proposal.integrities, prfs: &proposal.prfs, groups: &proposal.groups }
    }
}

impl<'a> From<&'a EspProposal> for Lists<'a> {
    fn from(proposal: &'a EspProposal) -> Self {
        Lists { ciphers: &proposal.ciphers, integrities: &proposal.integrities, prfs: &[], groups: &proposal.groups }
    }
}

/// What the one that answers chooses of what is offered.
pub(super) fn choose<'a>(
    offered: impl Iterator<Item = Lists<'a>> + Clone,
    own: impl Iterator<Item = Lists<'a>> + Clone,
    preference: Preference,
) -> Option<Suite> {
    match preference {
        Preference::Own => own.into_iter().find_map(|mine| offered.clone().find_map(|theirs| fit(mine, theirs))),
        Preference::Peers => offered.into_iter().find_map(|theirs| own.clone().find_map(|mine| fit(theirs, mine))),
    }
}

/// The first value of each kind in the first list that is in the second one, too.
fn fit(first: Lists<'_>, other: Lists<'_>) -> Option<Suite> {
    let cipher = |aead: bool| first.ciphers.iter().find(|cipher| cipher.is_aead() == aead && other.ciphers.contains(cipher)).copied();
    let integrity = first.integrities.iter().find(|one| other.integrities.contains(one)).copied();
    // A combined-mode cipher does without integrity (RFC 7296 section 3.3); no other does.
    let own = first.ciphers.iter().find(|cipher| other.ciphers.contains(cipher))?;
    let (cipher, integrity) = match (own.is_aead(), integrity) {
        (true, _) => (*own, None),
        (false, Some(integrity)) => (*own, Some(integrity)),
        (false, None) => (cipher(true)?, None),
    };
    Some(Suite { cipher, integrity, prf: common(first.prfs, other.prfs)?, group: common(first.groups, other.groups)? })
}

/// The first common value; none where neither has any; nothing at all where only one has, or they have none in common.
fn common<T: Copy + PartialEq>(first: &[T], other: &[T]) -> Option<Option<T>> {
    match (first, other) {
        ([], []) => Some(None),
        _ => first.iter().find(|one| other.contains(one)).map(|one| Some(*one)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const CBC: Cipher = Cipher { number: 12, key_bits: 256 };
    const GCM: Cipher = Cipher { number: 20, key_bits: 256 };

    fn ike(cipher: Cipher, integrities: &[u16], groups: &[u16]) -> IkeProposal {
        IkeProposal {
            ciphers: vec![cipher],
            integrities: integrities.iter().map(|number| Integrity(*number)).collect(),
            prfs: vec![Prf(5)],
            groups: groups.iter().map(|number| Group(*number)).collect(),
        }
    }

    fn chosen(offered: &[IkeProposal], own: &[IkeProposal], preference: Preference) -> Option<String> {
        choose(offered.iter().map(Lists::from), own.iter().map(Lists::from), preference).map(|suite| suite.to_string())
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
}
