//! Libreswan 4.10 as Debian 12 packages it.

mod behaviour;
mod database;
mod offers;
mod profile;
mod proposal;
mod read;
mod secrets;
mod statements;
mod steps;
mod syntax;
mod write;

use std::ops::Range;

use profile::BASE;

use crate::delivery::PartSteps;
use crate::dialect::{Remarks, Unwritable};
use crate::profile::statement::{Section, misfits};
use crate::profile::{Family, Profile, TakeOut};
use crate::text::{authority_name, conns, with_line_end};
use uspan_model::finding::Finding;
use uspan_model::gateway::{Endpoint, Gateway, Identity, Tree};
use uspan_model::key::{Certificate, KeyKind};

/// The release of Debian 12.
pub(super) fn base() -> Profile {
    Profile { statements: statements::statements().into(), ..BASE }
}

/// What its releases have in common.
#[derive(Debug)]
pub(super) struct Libreswan;

impl Family for Libreswan {
    fn write(&self, profile: &Profile, gateway: &Gateway, remarks: &Remarks) -> Result<Tree, Vec<Unwritable>> {
        write::write(profile, gateway, remarks)
    }

    fn is_of(&self, tree: &Tree) -> bool {
        tree.files.keys().any(|path| path.starts_with("etc/ipsec."))
    }

    fn misfits(&self, profile: &Profile, tree: &Tree) -> usize {
        let loaded = syntax::load(tree);
        let of = |sections: &[Section], settings: &[_]| misfits(profile, sections, settings);
        let connections = loaded.connections.iter().map(|one| of(&[Section::Connection, Section::Child], &one.settings));
        of(&[Section::Daemon], &loaded.setup) + connections.sum::<usize>()
    }

    fn read(&self, profile: &Profile, tree: &Tree) -> (Gateway, Vec<Finding>) {
        read::read(profile, tree)
    }

    fn definitions(&self, text: &str) -> Vec<Range<usize>> {
        conns(text)
    }

    fn secrets_at(&self, tree: &Tree) -> Vec<(String, Range<usize>, Vec<Identity>)> {
        let stated = secrets::stated_secrets(tree, &mut Vec::new()).into_iter();
        stated.map(|one| (one.path.to_owned(), with_line_end(tree, one.path, one.span.range()), one.identities)).collect()
    }

    fn bring_in(&self, tree: &Tree) -> Vec<String> {
        let mut commands = Vec::new();
        if tree.files.contains_key(OWN_CERTIFICATE) {
            // One of the same name goes first: a renewed one may have another subject.
            commands.push(format!("certutil -D -n {OWN} -d {DATABASE} 2>/dev/null || true"));
            commands.push(match tree.files.contains_key(OWN_PRIVATE) {
                true => format!(
                    "(umask 077 && openssl pkcs12 -export -name {OWN} -in /{OWN_CERTIFICATE} -inkey /{OWN_PRIVATE} -passout pass: \
                     -out /run/{OWN}.p12 && pk12util -i /run/{OWN}.p12 -W '' -d {DATABASE} >/dev/null; rm -f /run/{OWN}.p12)"
                ),
                false => format!("certutil -A -n {OWN} -t ,, -a -i /{OWN_CERTIFICATE} -d {DATABASE}"),
            });
        }
        let authorities = tree.in_folder(FOLDER, ".crt").filter(|(path, _)| *path != OWN_CERTIFICATE);
        commands.extend(authorities.filter_map(|(path, file)| {
            let name = authority_name(&Certificate::from_pem(&file.text)?);
            Some(format!("certutil -A -n {name} -t CT,, -a -i /{path} -d {DATABASE}"))
        }));
        commands
    }

    fn steps(&self) -> &'static PartSteps {
        &steps::STEPS
    }

    fn take_out(&self, gateway: &Gateway, shared: bool) -> TakeOut {
        let children = gateway.connections.iter().flat_map(|connection| &connection.children);
        let mut after = vec!["ipsec auto --rereadsecrets >/dev/null 2>&1".to_owned()];
        // What no other tunnel has left a file of leaves the database too; `-F` takes the key along.
        let forget = |file: &str, option: &str, name: &str| format!("[ -e /{file} ] || certutil {option} -n {name} -d {DATABASE}");
        if gateway.key_pairs.iter().any(|pair| pair.certificate.is_some()) {
            after.push(forget(OWN_CERTIFICATE, "-F", OWN));
        }
        after.extend(gateway.authorities.iter().map(|authority| forget(&authority_file(authority), "-D", &authority_name(authority))));
        let names: Vec<&str> = children.map(|child| child.name.as_str()).collect();
        let mut before = Vec::new();
        // Where the peer's address is any, the daemon dies over it when the connection goes with which an IKE SA began, and others still
        // have SAs there (4.10).
        if !shared && names.len() > 1 && gateway.connections.iter().any(|connection| connection.remote.value == Endpoint::Anywhere) {
            before.push(format!(
                "ipsec whack --showstates 2>/dev/null | sed -n 's/^[0-9]* *#\\([0-9]*\\): \"\\({}\\)\".*established IKE SA.*/\\1/p' | \
                 while read -r number; do ipsec whack --deletestate \"$number\"; done >/dev/null 2>&1",
                names.join("\\|")
            ));
        }
        // That ends the SAs too.
        before.extend(names.iter().map(|name| format!("ipsec auto --delete {name} >/dev/null 2>&1")));
        TakeOut { before, after }
    }
}

/// The database in which it looks for keys and certificates (ipsec.conf(5), `leftcert`).
const DATABASE: &str = "sql:/var/lib/ipsec/nss";

/// The gateway's own certificate there: one for all tunnels.
const OWN: &str = "uspan-own";

/// With what it signs, and has its peers sign, by the key of its certificate (RFC 7427). Where both are named it
/// signs with RSA whatever its key is.
fn signatures(kind: KeyKind) -> &'static str {
    if matches!(kind, KeyKind::Rsa(_)) { "rsasig" } else { "ecdsa" }
}

/// The files from which they come there.
const OWN_CERTIFICATE: &str = "etc/ipsec.d/uspan-own.crt";
const OWN_PRIVATE: &str = "etc/ipsec.d/uspan-own.key";

fn authority_file(authority: &Certificate) -> String {
    format!("{FOLDER}/{}.crt", authority_name(authority))
}

/// Its main file of secrets.
const SECRETS: &str = "etc/ipsec.secrets";

/// Its main file.
const MAIN: &str = "etc/ipsec.conf";

/// Where its connection and secrets files stand.
const FOLDER: &str = "etc/ipsec.d";

/// Switches of the whole daemon. No tunnel's file has this name: their names have no dot.
const SWITCHES: &str = "etc/ipsec.d/uspan.setup.conf";

/// Without it the daemon drops IKEv1 in silence.
const IKEV1_SWITCH: &str = "config setup\n\tikev1-policy=accept\n";
