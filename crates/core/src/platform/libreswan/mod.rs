//! Libreswan 4.10 as Debian 12 packages it.

mod facts;
mod proposal;
mod read;
mod syntax;
mod write;

use super::{Facts, Platform, Remarks, TakeOut, Unwritable};
use crate::finding::Finding;
use crate::gateway::{Gateway, Tree};

/// The platform.
pub(super) struct Libreswan;

impl Platform for Libreswan {
    fn facts(&self) -> &'static Facts {
        &facts::FACTS
    }

    fn write(&self, gateway: &Gateway, remarks: &Remarks) -> Result<Tree, Vec<Unwritable>> {
        write::write(gateway, remarks)
    }

    fn read(&self, tree: &Tree) -> (Gateway, Vec<Finding>) {
        read::read(tree)
    }

    fn take_out(&self, gateway: &Gateway) -> TakeOut {
        let children = gateway.connections.iter().flat_map(|connection| &connection.children);
        TakeOut {
            // That ends the SAs too.
            before: children.map(|child| format!("ipsec auto --delete {} >/dev/null 2>&1", child.name)).collect(),
            after: vec!["ipsec auto --rereadsecrets >/dev/null 2>&1".to_owned()],
        }
    }
}

/// Where its connection and secrets files stand.
const FOLDER: &str = "etc/ipsec.d";

/// Switches of the whole daemon. No tunnel's file has this name: their names have no dot.
const SWITCHES: &str = "etc/ipsec.d/uspan.setup.conf";

/// Without it the daemon drops IKEv1 in silence.
const IKEV1_SWITCH: &str = "config setup\n\tikev1-policy=accept\n";
