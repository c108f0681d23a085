//! Platforms: what each gateway can do, how it spells it, and how its files are written and read.
//!
//! To add a platform: a folder here with its profile and family, and one line in [`built_in`].

mod libreswan;
mod openiked;
mod other;
mod strongswan;

pub(crate) use other::is_keyword_of_list;

use std::sync::Arc;

use crate::profile::Profile;

/// The profiles that come with the program, in the order in which tables show them.
pub fn built_in() -> Vec<Arc<Profile>> {
    [strongswan::base(), libreswan::base(), openiked::base()].map(Arc::new).into()
}

/// Those whose files are read, and never written.
pub fn read_only() -> Vec<Arc<Profile>> {
    vec![Arc::new(strongswan::starter())]
}

/// A gateway that is none of them.
pub fn other() -> Arc<Profile> {
    Arc::new(other::base())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_spelling_is_of_a_registered_algorithm_and_unique() {
        for profile in built_in() {
            let mut words: Vec<_> = profile.names.iter().map(|row| (row.transform.kind, &*row.word)).collect();
            for row in &*profile.names {
                assert!(row.transform.row().is_some(), "{}", row.word);
            }
            words.sort_unstable();
            words.dedup();
            assert_eq!(words.len(), profile.names.len(), "{}", profile.word);
        }
    }
}
