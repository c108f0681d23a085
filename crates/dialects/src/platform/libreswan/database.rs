//! What the daemon's database of keys and certificates holds, as far as it was listed: `listing/certutil` is what certutil(1) says with
//! `-L -d sql:/var/lib/ipsec/nss`, and `listing/certificates/NICKNAME.crt` the certificate of that nickname (`-L … -n NICKNAME -a`).

use std::collections::BTreeMap;

use super::syntax::ConfSection;
use uspan_model::gateway::{Gateway, Tree};
use uspan_model::key::Certificate;
use uspan_model::subject::Subject;

const LIST: &str = "listing/certutil";
const CERTIFICATES: &str = "listing/certificates";

/// What was listed.
pub(super) struct Database {
    /// By nickname.
    listed: BTreeMap<String, ListedCertificate>,
    /// The authorities that the daemon believes: all that issued themselves, whatever they are trusted with (`root_certs.c` of the daemon).
    pub(super) authorities: Vec<Certificate>,
}

struct ListedCertificate {
    /// Whether its private key is there too (trust flag `u`).
    has_key: bool,
    /// Nothing where it was listed, and not exported.
    certificate: Option<Certificate>,
}

impl Database {
    /// Reads what was listed; nothing where nothing was.
    pub(super) fn read(tree: &Tree) -> Option<Database> {
        let list = tree.files.get(LIST)?;
        let mut listed = BTreeMap::new();
        for (nickname, trust) in list.text.lines().filter_map(|line| line.trim_end().rsplit_once(' ')) {
            let nickname = nickname.trim();
            if !is_trust(trust) || nickname.is_empty() {
                continue;
            }
            let file = tree.files.get(&format!("{CERTIFICATES}/{nickname}.crt"));
            let certificate = file.and_then(|file| Certificate::from_pem(&file.text));
            listed.insert(nickname.to_owned(), ListedCertificate { has_key: trust.contains('u'), certificate });
        }
        let all = listed.values().filter_map(|entry| entry.certificate.as_ref());
        let authorities = all.filter(|certificate| certificate.issued_by(certificate)).cloned().collect();
        Some(Database { listed, authorities })
    }

    /// The certificate of a nickname, where it was exported, and has its key if that is asked for.
    pub(super) fn certificate(&self, nickname: &str, with_key: bool) -> Option<&Certificate> {
        let entry = self.listed.get(nickname)?;
        entry.certificate.as_ref().filter(|_| entry.has_key || !with_key)
    }

    /// The authority that the peer's certificate must be from, where one is named that is among those that are believed. `%same` is
    /// the one that is named for the own end, or that of the own certificate (ipsec.conf(5), `rightca`).
    pub(super) fn issuer_of_peer(&self, section: &ConfSection) -> Option<Subject> {
        let named = |said: &str| Subject::read(said.trim_matches('"'));
        let wanted = match section.get("rightca")?.value.as_str() {
            "%same" => match section.get("leftca") {
                Some(said) => named(&said.value),
                None => {
                    let own = self.certificate(&section.get("leftcert")?.value, true)?;
                    self.authorities.iter().find(|authority| own.issued_by(authority))?.distinguished_name()
                }
            },
            said => named(said),
        }?;
        self.authorities.iter().any(|authority| authority.distinguished_name().as_ref() == Some(&wanted)).then_some(wanted)
    }

    /// Gives a gateway the authorities that are believed: all, or the one that is named for all peers.
    pub(super) fn believe(&self, gateway: &mut Gateway, issuers: &[Option<Subject>]) {
        let only = one_issuer(issuers);
        if only.is_some() {
            for connection in &mut gateway.connections {
                connection.remainder.0.retain(|one| one.keyword != "rightca");
            }
        }
        let believed = |authority: &&Certificate| only.is_none_or(|only| authority.distinguished_name().as_ref() == Some(only));
        gateway.authorities.extend(self.authorities.iter().filter(believed).cloned());
    }

    /// Whether `rightca` or `leftca` names the one authority that the daemon believes, so that it excludes none.
    pub(super) fn believes_only(&self, said: &str) -> bool {
        let [one] = self.authorities.as_slice() else { return false };
        let Some(subject) = one.distinguished_name() else { return false };
        said == "%same" || Subject::read(said.trim_matches('"')) == Some(subject)
    }
}

/// The authority that the certificates of all peers must be from, where one is named and is the same for all: then it is the only one that is
/// believed.
fn one_issuer(issuers: &[Option<Subject>]) -> Option<&Subject> {
    let first = issuers.first()?.as_ref()?;
    issuers.iter().all(|issuer| issuer.as_ref() == Some(first)).then_some(first)
}

/// Whether a word is the trust of an entry: flags for three uses (certutil(1), `-t`).
fn is_trust(word: &str) -> bool {
    let flags = |part: &str| part.bytes().all(|flag| b"pPcCTuwg".contains(&flag));
    word.matches(',').count() == 2 && word.split(',').all(flags)
}

#[cfg(test)]
mod tests {
    use super::*;

    const LISTED: &str = "\nCertificate Nickname                                         Trust Attributes\n                                                             \
                          SSL,S/MIME,JAR/XPI\n\npackhouse                                                    u,u,u\nOrchard CA - Alder Creek                                     \
                          CT,, \ncoldstore                                                    P,,\n";

    #[test]
    fn nicknames_and_whether_they_have_a_key_are_read_from_the_list() {
        let database = Database::read(&Tree::of(LIST, LISTED)).expect("listed");
        let keys: Vec<_> = database.listed.iter().map(|(nickname, entry)| (nickname.as_str(), entry.has_key)).collect();
        assert_eq!(keys, [("Orchard CA - Alder Creek", false), ("coldstore", false), ("packhouse", true)]);
        assert!(Database::read(&Tree::default()).is_none());
    }
}
