//! OpenIKED 7.2 on Linux as Debian 12 packages it.

mod behaviour;
mod offers;
mod profile;
mod proposal;
mod read;
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
use uspan_model::gateway::{Gateway, Identity, Lifetime, Tree};

/// The release of Debian 12.
pub(super) fn base() -> Profile {
    Profile { statements: statements::statements().into(), ..BASE }
}

/// What its releases have in common.
#[derive(Debug)]
pub(super) struct Openiked;

impl Family for Openiked {
    fn write(&self, profile: &Profile, gateway: &Gateway, remarks: &Remarks) -> Result<Tree, Vec<Unwritable>> {
        write::write(profile, gateway, remarks)
    }

    fn is_of(&self, tree: &Tree) -> bool {
        tree.files.keys().any(|path| path == MAIN || path.starts_with("etc/iked"))
    }

    fn read(&self, profile: &Profile, tree: &Tree) -> (Gateway, Vec<Finding>) {
        read::read(profile, tree)
    }

    fn definitions(&self, text: &str) -> Vec<Range<usize>> {
        let mut found = Vec::new();
        let mut start = 0;
        let mut policy = None;
        for line in text.split_inclusive('\n') {
            let (from, to) = (start, start + line.len());
            start = to;
            let first = *policy.get_or_insert(from);
            // A policy goes on where a line ends in a backslash.
            if line.trim_end_matches(['\n', '\r']).ends_with('\\') {
                continue;
            }
            policy = None;
            if text[first..to].trim_start().starts_with("ikev2") {
                found.push(first..to);
            }
        }
        found
    }

    fn steps(&self) -> &'static PartSteps {
        &steps::STEPS
    }

    fn take_out(&self, gateway: &Gateway, _: bool) -> TakeOut {
        let resets = gateway.connections.iter().map(|connection| {
            let (kind, value) = kind_and_value(&connection.ike().remote_identity.value);
            let id = format!("{}/{value}", kind.to_uppercase());
            // Subjects have spaces.
            format!("ikectl reset id {}", if id.contains(' ') { format!("'{id}'") } else { id })
        });
        TakeOut { before: Vec::new(), after: std::iter::once("ikectl reload".to_owned()).chain(resets).collect() }
    }

    fn needs(&self) -> &'static [&'static str] {
        &[MAIN, OWN_PUBLIC, OWN_PRIVATE]
    }
}

/// The gateway's own key: one for all tunnels, without its private part and with it (iked(8)).
const OWN_PUBLIC: &str = "etc/iked/local.pub";
const OWN_PRIVATE: &str = "etc/iked/private/local.key";
/// Its certificate, beside which others may stand; it shows the one that names the identity.
const OWN_CERTIFICATE: &str = "etc/iked/certs/uspan.crt";
/// Where the authorities stand that it believes.
const AUTHORITIES: &str = "etc/iked/ca";

/// Kind and value of an identity, as files and `ikectl` (there in capitals) name them.
fn kind_and_value(identity: &Identity) -> (&'static str, String) {
    match identity {
        Identity::Address(address) if address.is_ipv4() => ("ipv4", address.to_string()),
        Identity::Address(address) => ("ipv6", address.to_string()),
        Identity::Name(name) | Identity::Free(name) => ("fqdn", name.clone()),
        Identity::Mail(name) => ("ufqdn", name.clone()),
        Identity::Subject(subject) => ("asn1_dn", subject.slashed()),
        // No file is for those.
        Identity::Anybody | Identity::Implied(_) => ("none", String::new()),
    }
}

/// Where it looks for a peer's key.
fn peer_key(identity: &Identity) -> String {
    let (kind, value) = kind_and_value(identity);
    format!("etc/iked/pubkeys/{kind}/{value}")
}

/// The daemon's own file: what holds for the whole daemon, and an `include` for each tunnel.
const MAIN: &str = "etc/iked.conf";

/// Where the tunnels' policies stand.
const FOLDER: &str = "etc/iked.d";

/// How long before the end of an IKE SA its replacement begins. The daemon knows one age, at which it replaces;
/// a peer with a margin of its own is earlier anyway.
const IKE_EARLY: std::time::Duration = std::time::Duration::from_secs(10);

/// The margin of both lives. The daemon spreads the replacement of ESP SAs itself, between 5 and 15 % before the
/// end; the hub's margin for a pair of lives is a tenth of the shorter one.
fn margin(ike: std::time::Duration, esp: std::time::Duration) -> std::time::Duration {
    Lifetime::with_tenth(ike.min(esp)).margin
}
