//! The older form of strongSwan 5.9.8: ipsec.conf(5) and ipsec.secrets(5) of its starter (package strongswan-starter). It is read, and
//! never written: who takes such a gateway over gets the newer form, which the same daemon takes.

mod read;
mod secrets;
mod statements;
mod syntax;

use std::borrow::Cow;
use std::ops::Range;

use super::BASE;
use crate::dialect::{Remarks, Unwritable};
use crate::profile::statement::{Section, misfits};
use crate::profile::{Family, OwnEnd, Profile, TakeOut, text};
use crate::text::{conns, with_line_end};
use uspan_model::finding::Finding;
use uspan_model::gateway::{Gateway, Identity, Tree, TreeFile};

/// The release of Debian 12.
pub(in super::super) fn base() -> Profile {
    Profile {
        word: text("strongswan-starter"),
        title: text("strongSwan 5.9.8 with ipsec.conf (Debian 12)"),
        written_as: Some(BASE.word),
        source: text("ipsec.conf(5), ipsec.secrets(5) of strongswan-starter"),
        packages: text("strongswan-starter strongswan-charon libstrongswan-standard-plugins libstrongswan-extra-plugins"),
        files: text("/etc/ipsec.conf"),
        services: Cow::Borrowed(const { &[text("strongswan-starter")] }),
        reads_below: Cow::Borrowed(const { &[text("etc/ipsec."), text("etc/strongswan")] }),
        family: &Starter,
        own_end: OwnEnd::ByAddress,
        statements: statements::statements().into(),
        ..BASE
    }
}

#[derive(Debug)]
struct Starter;

impl Family for Starter {
    fn write(&self, _: &Profile, _: &Gateway, _: &Remarks) -> Result<Tree, Vec<Unwritable>> {
        Err(vec![Unwritable::new(
            "files of strongSwan's older form, which are read only",
            "Write for `strongswan`: it is the same daemon.",
        )])
    }

    fn is_of(&self, tree: &Tree) -> bool {
        // The packaged file is there without connections, too.
        let connects = |file: &TreeFile| file.text.lines().any(|line| line.starts_with("conn"));
        tree.files.contains_key(MAIN) && tree.files.iter().any(|(path, file)| path.starts_with("etc/ipsec.") && connects(file))
    }

    fn misfits(&self, profile: &Profile, tree: &Tree) -> usize {
        let loaded = syntax::load(tree);
        let of = |sections: &[Section], settings: &[_]| misfits(profile, sections, settings);
        let connections = loaded.connections.iter().map(|one| of(&[Section::Connection, Section::Child], &one.settings));
        usize::from(loaded.broken.is_some()) + of(&[Section::Daemon], &loaded.setup) + connections.sum::<usize>()
    }

    fn definitions(&self, text: &str) -> Vec<Range<usize>> {
        conns(text)
    }

    fn secrets_at(&self, tree: &Tree) -> Vec<(String, Range<usize>, Vec<Identity>)> {
        let stated = secrets::read(tree, &mut Vec::new()).into_iter();
        stated.map(|one| (one.path.clone(), with_line_end(tree, &one.path, one.span.range()), one.secret.identities)).collect()
    }

    fn read(&self, profile: &Profile, tree: &Tree) -> (Gateway, Vec<Finding>) {
        read::read(profile, tree)
    }

    fn take_out(&self, gateway: &Gateway, _: bool) -> TakeOut {
        let children = gateway.connections.iter().flat_map(|connection| &connection.children);
        TakeOut {
            before: children.map(|child| format!("ipsec down {} >/dev/null 2>&1", child.name)).collect(),
            after: vec!["ipsec reload >/dev/null 2>&1".to_owned(), "ipsec rereadsecrets >/dev/null 2>&1".to_owned()],
        }
    }
}

/// Its main file.
const MAIN: &str = "etc/ipsec.conf";

/// Its main file of secrets.
const SECRETS: &str = "etc/ipsec.secrets";

/// Where it looks for certificates and bare keys by name.
const CERTIFICATES: &str = "etc/ipsec.d/certs";

/// Every authority there counts.
const AUTHORITIES: &str = "etc/ipsec.d/cacerts";

/// The switches that aggressive mode needs (strongswan.conf(5)).
const SWITCHES: [&str; 2] = ["etc/strongswan.conf", "etc/strongswan.d/"];
