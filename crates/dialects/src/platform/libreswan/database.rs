//! What the daemon's database of keys and certificates holds, as far as it was listed: `listing/certutil` is what certutil(1) says with
//! `-L -d sql:/var/lib/ipsec/nss`, and `listing/certificates/NICKNAME.crt` the certificate of that nickname (`-L … -n NICKNAME -a`).

use std::collections::BTreeMap;

use super::syntax::ConfSection;
use uspan_model::gateway::Tree;
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

    /// The authority that the peer's certificate must be from: the one that is named, whatever it is; none where what is named is no name of
    /// one, which the daemon ignores. Nothing where that is not known. `%same` is the one that is named for the own end, or that of the own
    /// certificate (ipsec.conf(5), `rightca`).
    pub(super) fn issuer_of_peer(&self, section: &ConfSection) -> Option<Option<Subject>> {
        let named = |said: &str| match said.trim_matches('"') {
            said if said.contains('=') => Subject::read(said).map(Some),
            _ => Some(None),
        };
        match section.get("rightca")?.value.as_str() {
            "%any" => Some(None),
            "%same" => match section.get("leftca").filter(|said| said.value != "%same") {
                Some(said) => named(&said.value),
                None => {
                    let own = self.certificate(&section.get("leftcert")?.value, true)?;
                    let issuer = self.authorities.iter().find(|authority| own.issued_by(authority))?;
                    issuer.distinguished_name().map(Some)
                }
            },
            said => named(said),
        }
    }
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
