//! What goes from one party to the other outside of the sheet, and how both see that it arrived whole.

use ring::digest::{Context, SHA256};

use crate::check::{SecretFile, Supplied};
use crate::description::{Description, Tunnel};
use crate::digest::hex;
use crate::gateway::Method;
use crate::secret::Secret;

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

/// What a fingerprint is made over, before the secret.
const HEAD: &str = "uspan fingerprint 1\n";
/// How much of the digest is shown.
const SHOWN_BITS: usize = 40;
/// A secret that takes fewer guesses than this is not shown any fingerprint of, as a decimal logarithm: whoever has it could try
/// secrets one after the other, without asking anybody.
const STRONG_LOG10: f64 = 30.0;

/// A short fingerprint of a secret: the first 40 bits of a SHA-256 (FIPS 180-4) over a head and the secret, in groups.
///
/// It reveals nothing that helps: to test a guess one has to guess the whole secret, and of a secret of 128 bits there are
/// 2^88 with the same fingerprint. Nothing for a secret that could be guessed.
pub fn fingerprint(secret: &Secret, guesses_log10: f64) -> Option<String> {
    if guesses_log10 < STRONG_LOG10 {
        return None;
    }
    let mut digest = Context::new(&SHA256);
    digest.update(HEAD.as_bytes());
    digest.update(secret.expose());
    Some(hex(&digest.finish().as_ref()[..SHOWN_BITS / 8]))
}

/// The SHA-256 of what a PEM text holds, in hexadecimal.
fn digest(pem: &str) -> Option<String> {
    let (_, pem) = x509_parser::pem::parse_x509_pem(pem.as_bytes()).ok()?;
    Some(hex(ring::digest::digest(&SHA256, &pem.contents).as_ref()))
}

fn command(file: &str) -> String {
    let (head, digits) = (HEAD.trim_end(), SHOWN_BITS / 4);
    format!("{{ printf '{head}\\n'; tr -d '\\n' < {file}; }} | sha256sum | cut -c1-{digits}")
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
                    format!("openssl pkey -pubin -in {path} -outform DER | sha256sum"),
                    check,
                )
            });
            keys.into()
        }
        Method::Certificate => {
            let authorities = description.ends(tunnel).map(|site| {
                let path = site.keys.as_ref().and_then(|keys| keys.issuer.as_ref()).map(|path| path.value.clone()).unwrap_or_default();
                let check = supplied.certified(site).and_then(|(_, authority)| digest(authority.pem()));
                let command = format!("openssl x509 -in {path} -outform DER | sha256sum");
                public(format!("the certificate of the authority of {}", site.name.value), command, check)
            });
            let [one, other] = authorities;
            if one.check == other.check && one.command == other.command { vec![one] } else { vec![one, other] }
        }
    }
}

fn secret(description: &Description, tunnel: &Tunnel, file: &str, supplied: &Supplied) -> Handover {
    let (check, why) = match (supplied.secrets.get(file), supplied.secret_of(description, tunnel)) {
        (Some(SecretFile::Read { guesses_log10, .. }), Some(secret)) => match fingerprint(&secret, *guesses_log10) {
            Some(fingerprint) => (
                Some(fingerprint),
                "It may be said aloud: it is 40 bits of a SHA-256 over the secret, and to test a guess one has to guess all of it; there are \
                 too many secrets for that, and countless ones with the same fingerprint."
                    .to_owned(),
            ),
            None => (
                None,
                "There is none: the secret could be guessed, and whoever heard the fingerprint could try secrets against it. Make a strong one first."
                    .to_owned(),
            ),
        },
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
        command: command(file),
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

    /// The same as the command gives: printf 'uspan fingerprint 1\nnot a real secret' | sha256sum.
    #[test]
    fn a_fingerprint_is_the_head_of_a_digest_and_only_of_strong_secrets() {
        let secret = Secret::new(b"not a real secret".to_vec());
        assert_eq!(fingerprint(&secret, 29.0), None);
        assert_eq!(fingerprint(&secret, 38.0).as_deref(), Some("08934857db"));
    }
}
