//! Keys: there, of a pair, one for each site.

use std::collections::{BTreeMap, BTreeSet};

use crate::check::Supplied;
use crate::description::{Description, Site};
use crate::finding::{self as rules, Finding, Rule};
use crate::gateway::{IkeVersion, Method};
use crate::key::{KeyFile, PublicKey};
use crate::source::{Located, Span};

pub(super) fn check(description: &Description, supplied: &Supplied) -> Vec<Finding> {
    let mut findings = Vec::new();
    let mut signing: BTreeSet<usize> = BTreeSet::new();
    for tunnel in description.tunnels.iter().filter(|tunnel| tunnel.method.value == Method::PublicKey) {
        signing.extend(tunnel.between.iter().map(|end| end.value));
        let mut say = |rule: &'static Rule, message: String| {
            findings.push(Finding::new(rule, message).at(description.source.place(tunnel.method.span)));
        };
        if tunnel.version.value == IkeVersion::V1 {
            say(&rules::KEYS_NEED_IKEV2, "IKEv1 and public keys".to_owned());
        }
        for site in description.ends(tunnel).into_iter().filter(|site| site.keys.is_none()) {
            say(&rules::KEY_NEEDED, format!("`{}` has no `keys`", site.name.value));
        }
    }
    let mut known: BTreeMap<&PublicKey, &Site> = BTreeMap::new();
    for site in signing.into_iter().map(|site| &description.sites[site]) {
        let Some(keys) = &site.keys else { continue };
        let mut say = |rule: &'static Rule, span: Span, message: String| {
            findings.push(Finding::new(rule, message).at(description.source.place(span)));
        };
        let public = match supplied.keys.get(&keys.public.value) {
            Some(KeyFile::Public(public)) => Some(public),
            other => {
                say(&rules::NO_KEY_FILE, keys.public.span, unfit(other, &keys.public, "public"));
                None
            }
        };
        if let Some(other) = public.and_then(|public| known.insert(public, site)) {
            say(&rules::SAME_KEY, keys.public.span, format!("`{}` has the key of `{}`", site.name.value, other.name.value));
        }
        let Some(file) = &keys.private else { continue };
        match supplied.keys.get(&file.value) {
            Some(KeyFile::Private { public: own, exposed, .. }) => {
                if public.is_some_and(|public| public != own) {
                    let message = format!("`{}` does not belong to `{}`", file.value, keys.public.value);
                    say(&rules::KEYS_DIFFER, file.span, message);
                }
                if *exposed {
                    say(&rules::EXPOSED_SECRET, file.span, format!("`{}` can be read by others than its owner", file.value));
                }
            }
            other => say(&rules::NO_KEY_FILE, file.span, unfit(other, file, "private")),
        }
    }
    findings
}

/// What is wrong with a file that should hold a key.
fn unfit(found: Option<&KeyFile>, file: &Located<String>, kind: &str) -> String {
    let file = &file.value;
    match found {
        None | Some(KeyFile::Missing) => format!("there is no file `{file}`"),
        Some(KeyFile::Unreadable(why)) => format!("`{file}` cannot be read: {why}"),
        Some(_) => format!("`{file}` holds no {kind} key on the curve P-256 or P-384"),
    }
}
