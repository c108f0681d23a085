//! strongSwan 5.9.8 as Debian 12 packages it (charon-systemd, swanctl).

mod facts;
mod proposal;
mod read;
mod syntax;
mod write;

use super::{Facts, Platform, Remarks, Unwritable};
use crate::finding::Finding;
use crate::gateway::{Gateway, Tree};

/// The platform.
pub(super) struct Strongswan;

impl Platform for Strongswan {
    fn facts(&self) -> &'static Facts {
        &facts::FACTS
    }

    fn write(&self, gateway: &Gateway, remarks: &Remarks) -> Result<Tree, Vec<Unwritable>> {
        write::write(gateway, remarks)
    }

    fn read(&self, tree: &Tree) -> (Gateway, Vec<Finding>) {
        read::read(tree)
    }
}

/// Where its connection files stand.
const FOLDER: &str = "etc/swanctl/conf.d";

/// Switches of the whole daemon (strongswan.conf(5)), read when it starts.
const SWITCHES: &str = "etc/strongswan.d/uspan.conf";

/// Without it a responder refuses aggressive mode with a shared secret.
const AGGRESSIVE_SWITCH: &str = "charon {\n  i_dont_care_about_security_and_use_aggressive_mode_psk = yes\n}\n";
