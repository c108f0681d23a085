//! A gateway that is none of the platforms: somebody else's, of any make. For it there are no files, but a list of parameters in the
//! trade's words and the names of the IANA registries, for whoever runs it. What it can do is what a description allows.

mod profile;
mod read;
mod statements;
mod write;

use crate::dialect::{Remarks, Unwritable};
use std::sync::LazyLock;

use crate::profile::{Family, Names, Profile, TakeOut, Text};
use uspan_model::finding::Finding;
use uspan_model::gateway::{Gateway, Tree};

/// Any make.
pub(crate) fn base() -> Profile {
    Profile { statements: statements::statements().into(), names: Names::registered(), ..profile::BASE }
}

/// What no list has: secrets and keys, which go from hand to hand.
const FROM_HAND_TO_HAND: &str = "what goes from hand to hand";

/// Whether a list has a parameter of this name.
pub(crate) fn is_keyword_of_list(keyword: &str) -> bool {
    static KEYWORDS: LazyLock<Vec<Text>> = LazyLock::new(|| statements::statements().into_iter().map(|row| row.keyword).collect());
    KEYWORDS.iter().any(|known| known == keyword)
}

/// Where the lists stand.
const FOLDER: &str = "parameters";

/// The list of a tunnel.
fn path(stem: &str) -> String {
    [FOLDER, "/", stem, ".txt"].concat()
}

/// The list.
#[derive(Debug)]
pub(super) struct Other;

impl Family for Other {
    fn write(&self, profile: &Profile, gateway: &Gateway, remarks: &Remarks) -> Result<Tree, Vec<Unwritable>> {
        write::write(profile, gateway, remarks)
    }

    fn read(&self, profile: &Profile, tree: &Tree) -> (Gateway, Vec<Finding>) {
        read::read(profile, tree)
    }

    fn hand_over(&self, read: &mut Gateway, planned: &Gateway) {
        read.secrets.extend(planned.secrets.iter().cloned());
        read.key_pairs.extend(planned.key_pairs.iter().cloned());
        read.pinned.extend(planned.pinned.iter().cloned());
        read.authorities.extend(planned.authorities.iter().cloned());
        for connection in &mut read.connections {
            connection.remainder.0.retain(|one| one.keyword != FROM_HAND_TO_HAND);
        }
    }

    fn is_of(&self, tree: &Tree) -> bool {
        tree.in_folder(FOLDER, ".txt").next().is_some()
    }

    fn take_out(&self, _: &Gateway, _: bool) -> TakeOut {
        TakeOut::default()
    }
}
