//! Secrets: there, readable, strong, one for each tunnel.

use std::collections::BTreeMap;

use crate::description::{Description, Keys, Site, Tunnel};
use uspan_model::finding::{self as rules, Finding, Rule};
use uspan_model::gateway::KeyPair;
use uspan_model::key::{Certificate, KeyFile};
use uspan_model::secret::Secret;

/// What the command line found where a description names a secret file.
#[derive(Clone, Debug)]
pub enum SecretFile {
    /// No such file.
    Missing,
    /// It cannot be read, for this reason.
    Unreadable(String),
    /// It has more than one line.
    SeveralLines,
    /// It was read.
    Read {
        /// The secret on its line.
        secret: Secret,
        /// Decimal logarithm of the number of guesses an attacker needs, as estimated.
        guesses_log10: f64,
        /// Whether a machine drew it without doubt, so that nobody can guess it.
        drawn: bool,
        /// Whether others than the owner can read the file.
        exposed: bool,
    },
}

/// What comes with a description from outside.
#[derive(Clone, Debug, Default)]
pub struct Supplied {
    /// Secret files by the path in the description.
    pub secrets: BTreeMap<String, SecretFile>,
    /// Key files by the path in the description.
    pub keys: BTreeMap<String, KeyFile>,
    /// The time, in seconds since 1970, for what ends; nothing ends without it.
    pub now: Option<i64>,
    /// Whether what is built goes into the lab and nowhere else.
    pub for_lab: bool,
}

impl Supplied {
    /// The secret of a file, if it was read.
    pub fn secret(&self, file: &str) -> Option<&Secret> {
        match self.secrets.get(file) {
            Some(SecretFile::Read { secret, .. }) => Some(secret),
            _ => None,
        }
    }

    /// The secret of a tunnel: that of its file, or the one that is derived from it for its pair of sites.
    pub fn secret_of(&self, description: &Description, tunnel: &Tunnel) -> Option<Secret> {
        let secret = self.secret(&tunnel.secret_file.as_ref()?.value)?;
        Some(match tunnel.generation {
            Some(generation) => secret.of_pair(description.ends(tunnel).map(|site| site.name.value.as_str()), generation),
            None => secret.clone(),
        })
    }

    /// A site's key, as it goes to its gateway and its peers.
    pub fn key_pair(&self, site: &Site) -> Option<KeyPair> {
        let keys = site.keys.as_ref()?;
        let Some(KeyFile::Public(public)) = self.keys.get(&keys.public.as_ref()?.value) else { return None };
        Some(KeyPair { identity: site.identity(), public: public.clone(), certificate: None, private: self.private(keys) })
    }

    /// A site's key with its certificate, and the authority that issued that.
    pub fn certified(&self, site: &Site) -> Option<(KeyPair, Certificate)> {
        let keys = site.keys.as_ref()?;
        let [own, issuer] = [&keys.certificate, &keys.issuer].map(|file| match self.keys.get(&file.as_ref()?.value) {
            Some(KeyFile::Certificate(certificate)) => Some(certificate.clone()),
            _ => None,
        });
        let own = own?;
        let (public, private) = (own.public(), self.private(keys));
        Some((KeyPair { identity: site.identity(), public, certificate: Some(own), private }, issuer?))
    }

    fn private(&self, keys: &Keys) -> Option<Secret> {
        match self.keys.get(&keys.private.as_ref()?.value) {
            Some(KeyFile::Private { pem, .. }) => Some(pem.clone()),
            _ => None,
        }
    }
}

/// Guesses that are within reach: fewer than 2^64.
const REACHABLE: f64 = 19.26;
/// Guesses that match the ciphers: 2^112.
const AMPLE: f64 = 33.7;
const LONGEST: usize = 512;

pub(super) fn check(description: &Description, supplied: &Supplied) -> Vec<Finding> {
    let mut findings = Vec::new();
    let mut files: BTreeMap<&str, &Tunnel> = BTreeMap::new();
    let mut contents: BTreeMap<&[u8], &Tunnel> = BTreeMap::new();
    for tunnel in &description.tunnels {
        let Some(named) = &tunnel.secret_file else { continue };
        let file = named.value.as_str();
        let place = description.source.place(named.span);
        let other_place = |other: &Tunnel| description.source.place(other.secret_file.as_ref().map_or(other.name.span, |file| file.span));
        let derived = tunnel.generation.is_some();
        // From a master secret each pair has its own.
        if derived && files.get(file).is_some_and(|other| other.generation.is_some()) {
            continue;
        }
        // Tunnels between the same sites have one IKE SA, and one secret.
        let is_sibling = |other: &&Tunnel| description.siblings(tunnel).any(|sibling| std::ptr::eq(sibling, *other));
        if files.get(file).is_some_and(is_sibling) {
            continue;
        }
        if let Some(other) = files.insert(file, tunnel) {
            let message = format!("`{}` uses the secret file of `{}`", tunnel.name.value, other.name.value);
            findings.push(Finding::new(&rules::SHARED_SECRET_FILE, message).at(place).with(other_place(other), "also here"));
            continue;
        }
        for (rule, message) in judge(supplied.secrets.get(file), file, tunnel.secret_in_use.as_ref().map(|reason| reason.value.as_str())) {
            findings.push(Finding::new(rule, message).at(place.clone()));
        }
        if let Some(secret) = supplied.secret(file).filter(|secret| !secret.expose().is_empty())
            && let Some(other) = contents.insert(secret.expose(), tunnel)
        {
            let message = format!("`{}` and `{}` have the same secret in two files", other.name.value, tunnel.name.value);
            findings.push(Finding::new(&rules::SAME_SECRET, message).at(place).with(other_place(other), "also here"));
        }
    }
    findings
}

/// What is wrong with one file, whose secret is in use for a reason, or not; messages never hold anything of the secret.
fn judge(found: Option<&SecretFile>, file: &str, in_use: Option<&str>) -> Vec<(&'static Rule, String)> {
    let (secret, guesses, exposed) = match found {
        None | Some(SecretFile::Missing) => return vec![(&rules::NO_SECRET_FILE, format!("there is no file `{file}`"))],
        Some(SecretFile::Unreadable(why)) => return vec![(&rules::UNREADABLE_SECRET, format!("`{file}` cannot be read: {why}"))],
        Some(SecretFile::SeveralLines) => return vec![(&rules::SECRET_OF_SEVERAL_LINES, format!("`{file}` has more than one line"))],
        Some(SecretFile::Read { secret, guesses_log10, exposed, .. }) => (secret.expose(), *guesses_log10, *exposed),
    };
    let mut found: Vec<(&'static Rule, String)> = Vec::new();
    if secret.is_empty() {
        found.push((&rules::EMPTY_SECRET, format!("`{file}` is empty")));
    } else if secret.contains(&0) {
        found.push((&rules::NUL_IN_SECRET, format!("the secret in `{file}` holds a NUL byte")));
    } else if secret.len() > LONGEST {
        found.push((&rules::LONG_SECRET, format!("the secret in `{file}` has {} bytes", secret.len())));
    } else if guesses < REACHABLE {
        found.push(match in_use {
            Some(reason) => {
                (&rules::WEAK_SECRET_IN_USE, format!("the secret in `{file}` could be guessed, by an estimate, and stays: {reason}"))
            }
            None => (&rules::WEAK_SECRET, format!("the secret in `{file}` could be guessed, by an estimate")),
        });
    } else if guesses < AMPLE {
        found.push((&rules::MODEST_SECRET, format!("the secret in `{file}` is estimated at less than 112 bits")));
    }
    if [b"0x", b"0X", b"0s", b"0S", b"0t", b"0T"].iter().any(|lead| secret.starts_with(*lead)) {
        found.push((&rules::LOOKS_ENCODED, format!("the secret in `{file}` begins like an encoded one")));
    }
    if exposed {
        found.push((&rules::EXPOSED_SECRET, format!("`{file}` can be read by others than its owner")));
    }
    found
}
