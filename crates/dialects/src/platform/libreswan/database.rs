//! What the daemon's database of keys and certificates holds, as far as it was listed: `listing/certutil` is what certutil(1) says with
//! `-L -d sql:/var/lib/ipsec/nss`, and `listing/certificates/NICKNAME.crt` the certificate of that nickname (`-L … -n NICKNAME -a`).

use std::collections::BTreeMap;

use uspan_model::gateway::Tree;
use uspan_model::key::Certificate;

const LIST: &str = "listing/certutil";
const CERTIFICATES: &str = "listing/certificates";

/// An entry, by its nickname.
pub(super) struct ListedCertificate {
    /// Whether its private key is there too (trust flag `u`).
    pub(super) has_key: bool,
    /// Nothing where it was listed, and not exported.
    pub(super) certificate: Option<Certificate>,
}

/// What was listed; nothing where nothing was.
pub(super) fn listed(tree: &Tree) -> Option<BTreeMap<String, ListedCertificate>> {
    let list = tree.files.get(LIST)?;
    let lines = list.text.lines().filter_map(|line| line.trim_end().rsplit_once(' '));
    let entries = lines.filter(|(_, trust)| is_trust(trust)).map(|(nickname, trust)| {
        let nickname = nickname.trim();
        let file = tree.files.get(&format!("{CERTIFICATES}/{nickname}.crt"));
        let certificate = file.and_then(|file| Certificate::from_pem(&file.text));
        (nickname.to_owned(), ListedCertificate { has_key: trust.contains('u'), certificate })
    });
    Some(entries.filter(|(nickname, _)| !nickname.is_empty()).collect())
}

/// Whether a word is the trust of an entry: flags for three uses (certutil(1), `-t`).
fn is_trust(word: &str) -> bool {
    let flags = |part: &str| part.bytes().all(|flag| b"pPcCTuwg".contains(&flag));
    word.matches(',').count() == 2 && word.split(',').all(flags)
}

/// The authorities that the daemon believes: all of its database that issued themselves, whatever they are trusted with
/// (`root_certs.c` of the daemon).
pub(super) fn authorities(entries: &BTreeMap<String, ListedCertificate>) -> impl Iterator<Item = &Certificate> {
    let all = entries.values().filter_map(|entry| entry.certificate.as_ref());
    all.filter(|certificate| certificate.issued_by(certificate))
}

#[cfg(test)]
mod tests {
    use super::*;

    const LISTED: &str = "\nCertificate Nickname                                         Trust Attributes\n                                                             \
                          SSL,S/MIME,JAR/XPI\n\npackhouse                                                    u,u,u\nOrchard CA - Alder Creek                                     \
                          CT,, \ncoldstore                                                    P,,\n";

    #[test]
    fn nicknames_and_whether_they_have_a_key_are_read_from_the_list() {
        let entries = listed(&Tree::of(LIST, LISTED)).expect("listed");
        let keys: Vec<_> = entries.iter().map(|(nickname, entry)| (nickname.as_str(), entry.has_key)).collect();
        assert_eq!(keys, [("Orchard CA - Alder Creek", false), ("coldstore", false), ("packhouse", true)]);
        assert!(listed(&Tree::default()).is_none());
    }
}
