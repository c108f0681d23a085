//! What goes from one party to the other outside of the sheet, and how both see that it arrived whole.

use ring::digest::{Context, SHA256};

use uspan_description::check::{SecretFile, Supplied};
use uspan_description::description::{Description, Tunnel};
use uspan_dialects::dialect::shell;
use uspan_model::digest::hex;
use uspan_model::gateway::Method;
use uspan_model::key::pem_contents;
use uspan_model::secret::Secret;

/// Something to hand over.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Handover {
    /// What.
    pub what: String,
    /// How.
    pub how: String,
    /// A value that both compare; nothing where there is none yet.
    pub check: Option<String>,
    /// The command that makes it out of the file at the other party.
    pub command: String,
    /// Why it may be said aloud, or why there is none.
    pub why: String,
}

/// What a fingerprint is made over, before the secret: it is another one for each tunnel, though the secret were the same.
fn head(tunnel: &str, sites: [&str; 2]) -> String {
    let mut sites = sites;
    sites.sort_unstable();
    format!("uspan fingerprint 2: {tunnel} {} {}", sites[0], sites[1])
}

/// How much of the digest is shown: as much as keeps anybody from finding a second secret with the same.
const SHOWN_BITS: usize = 128;

/// A fingerprint of a tunnel's secret: the first 128 bits of a SHA-256 (FIPS 180-4) over the names of the tunnel and of its two
/// sites, and the secret.
///
/// For secrets that a machine drew, and for no others: whoever hears the fingerprint of one that could be guessed can try guesses
/// against it, without asking anybody.
pub fn fingerprint(secret: &Secret, tunnel: &str, sites: [&str; 2]) -> String {
    let mut digest = Context::new(&SHA256);
    digest.update(head(tunnel, sites).as_bytes());
    digest.update(b"\n");
    digest.update(secret.expose());
    hex(&digest.finish().as_ref()[..SHOWN_BITS / 8])
}

/// The SHA-256 of what a PEM text holds, in hexadecimal.
fn digest(pem: &str) -> Option<String> {
    Some(hex(ring::digest::digest(&SHA256, &pem_contents(pem)?).as_ref()))
}

fn command(file: &str, tunnel: &str, sites: [&str; 2]) -> String {
    let (head, digits) = (head(tunnel, sites), SHOWN_BITS / 4);
    // Names have no characters that mean anything within quotes.
    format!("{{ printf '{head}\\n'; tr -d '\\n' < {}; }} | sha256sum | cut -c1-{digits}", shell::path(file))
}

pub(super) fn handovers(description: &Description, tunnel: &Tunnel, supplied: &Supplied) -> Vec<Handover> {
    match tunnel.method.value {
        Method::SharedSecret => tunnel.secret_file.iter().map(|file| secret(description, tunnel, &file.value, supplied)).collect(),
        Method::PublicKey => {
            let keys = description.ends(tunnel).map(|site| {
                let path = site.keys.as_ref().and_then(|keys| keys.public.as_ref()).map(|path| path.value.clone()).unwrap_or_default();
                let check = supplied.key_pair(site).and_then(|pair| digest(pair.public.pem()));
                public(
                    format!("the public key of {}", site.name.value),
                    format!("openssl pkey -pubin -in {} -outform DER | sha256sum", shell::path(&path)),
                    check,
                )
            });
            keys.into()
        }
        Method::Certificate => {
            let authorities = description.ends(tunnel).map(|site| {
                let path = site.keys.as_ref().and_then(|keys| keys.issuer.as_ref()).map(|path| path.value.clone()).unwrap_or_default();
                let check = supplied.certified(site).and_then(|(_, authority)| digest(authority.pem()));
                let command = format!("openssl x509 -in {} -outform DER | sha256sum", shell::path(&path));
                public(format!("the certificate of the authority of {}", site.name.value), command, check)
            });
            let [one, other] = authorities;
            if one.check == other.check && one.command == other.command { vec![one] } else { vec![one, other] }
        }
    }
}

fn secret(description: &Description, tunnel: &Tunnel, file: &str, supplied: &Supplied) -> Handover {
    let sites = description.ends(tunnel).map(|site| site.name.value.as_str());
    let name = tunnel.name.value.as_str();
    let (check, why) = match (supplied.secrets.get(file), supplied.secret_of(description, tunnel)) {
        (Some(SecretFile::Read { drawn: true, .. }), Some(secret)) => (
            Some(fingerprint(&secret, name, sites)),
            "It may be said aloud: it is 128 bits of a SHA-256 over the names of the tunnel and the secret, and a machine drew the secret, \
             so that nobody can try all that it could be."
                .to_owned(),
        ),
        (Some(SecretFile::Read { .. }), Some(_)) => (
            None,
            "There is none: the secret was not drawn by a machine, as far as one can see, and whoever heard the fingerprint could try guesses \
             against it. Make one with `uspan secret` first."
                .to_owned(),
        ),
        _ => (None, "There is none yet: the secret is not there.".to_owned()),
    };
    // Whoever has the master secret has those of all pairs: it goes to nobody.
    let (given, file) = match tunnel.generation {
        Some(_) => ("the secret of this pair alone, from the secrets file of its gateway, and never the master,".to_owned(), "FILE"),
        None => (file.to_owned(), file),
    };
    Handover {
        what: "the shared secret".to_owned(),
        how: format!(
            "give {given} over a way that you trust and that is not this sheet: a meeting, an encrypted message to a person you know; then compare the fingerprints"
        ),
        check,
        command: command(file, name, sites),
        why,
    }
}

/// Something that everybody may see, and nobody may exchange on the way.
fn public(what: String, command: String, check: Option<String>) -> Handover {
    Handover {
        what,
        how: "send it by any way; then compare the fingerprints over another one, so that nobody can have put a key of their own in its place".to_owned(),
        check,
        command,
        why: "It is public: it may be read by everybody.".to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The same as the command gives: printf 'uspan fingerprint 2: harvest coldstore packhouse\nnot a real secret' | sha256sum.
    #[test]
    fn a_fingerprint_is_of_one_tunnel() {
        let secret = Secret::new(b"not a real secret".to_vec());
        let one = fingerprint(&secret, "harvest", ["packhouse", "coldstore"]);
        assert_eq!(one, "71b623826186accf00493d7e931c6338");
        assert_eq!(one, fingerprint(&secret, "harvest", ["coldstore", "packhouse"]));
        assert_ne!(one, fingerprint(&secret, "seed", ["coldstore", "packhouse"]));
    }

    #[test]
    fn a_file_name_is_one_word_of_the_command() {
        let said = command("k$(touch x) '-", "harvest", ["packhouse", "coldstore"]);
        assert!(said.contains(r"< 'k$(touch x) '\''-'; }"), "{said}");
    }
}
