//! ipsec.secrets(5) as the daemon of 5.9.8 takes it: a line for each secret. At a line that it cannot take it stops.

use super::super::statements::read_identity;
use super::SECRETS;
use crate::text::{Opened, included};
use uspan_model::finding::{self as rules, Finding};
use uspan_model::gateway::{Identity, SharedSecret, Tree};
use uspan_model::secret::Secret;
use uspan_model::source::{Source, Span};

/// What a secret is for, beside the shared ones: its words in the file.
const OTHERS: [&str; 9] = ["RSA", "ECDSA", "BLISS", "PKCS8", "P12", "PIN", "EAP", "NTLM", "XAUTH"];

/// A shared secret, and where it stands.
pub(super) struct SecretLineRead {
    pub path: String,
    pub span: Span,
    pub secret: SharedSecret,
}

/// The shared secrets of a tree.
pub(super) fn read(tree: &Tree, findings: &mut Vec<Finding>) -> Vec<SecretLineRead> {
    let mut secrets = Vec::new();
    let mut opened = Opened::of(tree);
    file(tree, SECRETS, &mut opened, &mut secrets, findings);
    findings.extend(opened.finding());
    secrets
}

fn file(tree: &Tree, path: &str, opened: &mut Opened, secrets: &mut Vec<SecretLineRead>, findings: &mut Vec<Finding>) {
    let Some(found) = tree.files.get(path).filter(|file| opened.enter(path, &file.text)) else { return };
    let source = Source::new(path, found.text.as_str());
    let mut start = 0;
    for line in found.text.split_inclusive('\n') {
        let span = Span { start, end: start + line.trim_end().len() };
        start += line.len();
        let body = line.trim();
        if body.is_empty() || body.starts_with('#') {
            continue;
        }
        if let Some(rest) = body.strip_prefix("include ") {
            let pattern = rest.trim_start().split(' ').next().unwrap_or_default();
            for name in included(tree, path, pattern).into_iter().filter(|name| name != path) {
                file(tree, &name, opened, secrets, findings);
            }
            continue;
        }
        match entry(body) {
            Ok(Some(secret)) => secrets.push(SecretLineRead { path: path.to_owned(), span, secret }),
            Ok(None) => {}
            Err(why) => {
                let message = format!("{why}: the daemon reads no secrets from there on");
                findings.push(Finding::new(&rules::DEVICE_VALUE, message).at(source.place(span)));
                break;
            }
        }
    }
    opened.leave();
}

/// A line: identities, a colon alone, what it is for, the secret. Nothing where that is none that two ends share.
fn entry(line: &str) -> Result<Option<SharedSecret>, &'static str> {
    let (identities, rest) = match line.strip_prefix(": ") {
        Some(rest) => ("", rest),
        None => line.split_once(" : ").ok_or("a line without ` : `")?,
    };
    let (kind, secret) = rest.trim_start().split_once(' ').ok_or("a line without a secret")?;
    if OTHERS.iter().any(|other| other.eq_ignore_ascii_case(kind)) {
        return Ok(None);
    }
    if !kind.eq_ignore_ascii_case("PSK") {
        return Err("a secret of a kind that there is not");
    }
    let secret = decoded(secret.trim_start()).ok_or("the secret cannot be decoded")?;
    let identities = owners(identities).ok_or("an identity that is not understood")?;
    Ok(Some(SharedSecret::between(identities, secret)))
}

/// In quotes literally; `0x` is hexadecimal, `0s` base64, anything else stands for itself.
fn decoded(text: &str) -> Option<Secret> {
    if let Some(quote) = text.chars().next().filter(|c| ['"', '\''].contains(c)) {
        let (inner, _) = text[1..].split_once(quote)?;
        return Some(Secret::new(inner.as_bytes().to_vec()));
    }
    let word = text.split(' ').next().unwrap_or_default();
    let small = word.get(..2).unwrap_or_default().to_ascii_lowercase();
    match small.as_str() {
        // Where a digit is missing it is a leading zero.
        "0x" if word.len() % 2 == 1 => Secret::from_hex(&["0", &word[2..]].concat()),
        "0x" => Secret::from_hex(&word[2..]),
        "0s" => Secret::from_base64(&word[2..]),
        _ => Some(Secret::new(word.as_bytes().to_vec())),
    }
}

/// Identities, of which those with white space stand in quotes.
fn owners(text: &str) -> Option<Vec<Identity>> {
    let parts = text.split('"').enumerate();
    let words = parts.flat_map(|(place, part)| match place % 2 {
        1 => vec![part],
        _ => part.split([' ', '\t']).filter(|word| !word.is_empty()).collect(),
    });
    words.map(read_identity).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn secrets_have_their_owners() {
        let read = |line: &str| entry(line).map(|found| found.map(|one| (one.identities, one.secret.expose().to_vec())));
        let name = |text: &str| Identity::Name(text.to_owned());
        assert_eq!(read(": PSK \"ab\""), Ok(Some((vec![], b"ab".to_vec()))));
        assert_eq!(read("@a b.example : PSK 0x6162"), Ok(Some((vec![name("a"), name("b.example")], b"ab".to_vec()))));
        assert_eq!(read("a : psk 0sYWI="), Ok(Some((vec![name("a")], b"ab".to_vec()))));
        assert_eq!(read(": RSA a.pem"), Ok(None));
        assert!(read("a: PSK b").is_err() && read("a : FOO b").is_err() && read(": PSK \"a").is_err());
    }
}
