//! strongSwan 5.9.8 as Debian 12 packages it (charon-systemd, swanctl).

mod behaviour;
mod offers;
mod profile;
mod proposal;
mod read;
mod starter;
mod statements;
mod steps;
mod syntax;
mod write;

use std::ops::Range;

use profile::BASE;

use crate::delivery::PartSteps;
use crate::dialect::{Remarks, Unwritable};
use crate::profile::{Family, Profile, TakeOut};
use uspan_model::finding::Finding;
use uspan_model::gateway::{Gateway, Identity, Tree};

/// The release of Debian 12.
pub(super) fn base() -> Profile {
    Profile { statements: statements::statements().into(), ..BASE }
}

/// The same daemon with the files of its starter.
pub(super) fn starter() -> Profile {
    starter::base()
}

/// What its releases have in common.
#[derive(Debug)]
pub(super) struct Strongswan;

impl Family for Strongswan {
    fn write(&self, profile: &Profile, gateway: &Gateway, remarks: &Remarks) -> Result<Tree, Vec<Unwritable>> {
        write::write(profile, gateway, remarks)
    }

    fn is_of(&self, tree: &Tree) -> bool {
        tree.files.keys().any(|path| path.starts_with("etc/swanctl/"))
    }

    fn read(&self, profile: &Profile, tree: &Tree) -> (Gateway, Vec<Finding>) {
        read::read(profile, tree)
    }

    fn definitions(&self, text: &str) -> Vec<Range<usize>> {
        syntax::sections_of(text, "connections").into_iter().map(|(_, range)| range).collect()
    }

    fn secrets_at(&self, tree: &Tree) -> Vec<(String, Range<usize>, Vec<Identity>)> {
        let swanctl = tree.files.iter().filter(|(path, _)| path.starts_with("etc/swanctl/") && path.ends_with(".conf"));
        let stated = swanctl.flat_map(|(path, file)| {
            let sections = syntax::sections_of(&file.text, "secrets").into_iter().filter(|(name, _)| name.starts_with("ike"));
            sections.map(move |(_, range)| (path.clone(), range.clone(), read::identities_in(&file.text[range])))
        });
        stated.collect()
    }

    fn steps(&self) -> &'static PartSteps {
        &steps::STEPS
    }

    fn take_out(&self, gateway: &Gateway, shared: bool) -> TakeOut {
        let close = |option: &str, name: &str| format!("swanctl --terminate --{option} {name} --timeout 10 --force >/dev/null 2>&1");
        let connections = gateway.connections.iter();
        TakeOut {
            // The IKE SA stays for the other tunnel.
            before: match shared {
                true => connections.flat_map(|connection| &connection.children).map(|child| close("child", &child.name)).collect(),
                false => connections.map(|connection| close("ike", &connection.name)).collect(),
            },
            // What is not in the files any more is unloaded, secrets too.
            after: vec!["swanctl --load-all --clear >/dev/null".to_owned()],
        }
    }
}

/// Where it looks for keys by name (swanctl(8)).
const PUBLIC_KEYS: &str = "etc/swanctl/pubkey";
const PRIVATE_KEYS: &str = "etc/swanctl/private";
const CERTIFICATES: &str = "etc/swanctl/x509";
const AUTHORITIES: &str = "etc/swanctl/x509ca";

/// Its main file.
const MAIN: &str = "etc/swanctl/swanctl.conf";

/// Where its connection files stand.
const FOLDER: &str = "etc/swanctl/conf.d";

/// Switches of the whole daemon (strongswan.conf(5)), read when it starts.
const SWITCHES: &str = "etc/strongswan.d/uspan.conf";

/// Without it a responder refuses aggressive mode with a shared secret.
const AGGRESSIVE_SWITCH: &str = "charon {\n  i_dont_care_about_security_and_use_aggressive_mode_psk = yes\n}\n";
