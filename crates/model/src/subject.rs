//! Subjects of certificates as identities (RFC 7296 section 3.5, ID_DER_ASN1_DN).

use std::fmt;

/// A mail address, which RFC 4519 leaves out; an IA5String (RFC 5280 appendix A, `emailAddress`).
pub const MAIL: &str = "1.2.840.113549.1.9.1";

/// Attributes by their short names, with their object identifiers (RFC 4519 section 2).
const ATTRIBUTES: [(&str, &str); 8] = [
    ("E", MAIL),
    ("C", "2.5.4.6"),
    ("ST", "2.5.4.8"),
    ("L", "2.5.4.7"),
    ("O", "2.5.4.10"),
    ("OU", "2.5.4.11"),
    ("CN", "2.5.4.3"),
    ("DC", "0.9.2342.19200300.100.1.25"),
];

/// A distinguished name, from the first part in the certificate to the last: what every daemon here writes alike. Each
/// part has one attribute, and its value no character that ends a value in some dialect.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Subject(Vec<(&'static str, String)>);

impl Subject {
    /// Reads `C=US, O=Alder Creek Orchards, CN=packhouse`.
    pub fn read(text: &str) -> Option<Subject> {
        Subject::of(text.split(',').map(|part| {
            let (name, value) = part.split_once('=')?;
            let name = if name.trim().eq_ignore_ascii_case(LONG_MAIL) { "E" } else { name.trim() };
            let attribute = ATTRIBUTES.iter().find(|(short, _)| short.eq_ignore_ascii_case(name))?;
            Some((attribute.0, value.trim().to_owned()))
        }))
    }

    /// Reads `/C=US/O=Alder Creek Orchards/CN=packhouse`.
    pub fn read_slashed(text: &str) -> Option<Subject> {
        Subject::read(&text.strip_prefix('/')?.replace('/', ","))
    }

    /// Takes parts by object identifier and value.
    pub(crate) fn from_attributes(parts: impl Iterator<Item = Option<(String, String)>>) -> Option<Subject> {
        Subject::of(parts.map(|part| {
            let (id, value) = part?;
            ATTRIBUTES.iter().find(|(_, number)| *number == id).map(|(short, _)| (*short, value))
        }))
    }

    fn of(parts: impl Iterator<Item = Option<(&'static str, String)>>) -> Option<Subject> {
        let parts = parts.collect::<Option<Vec<_>>>()?;
        (!parts.is_empty() && parts.iter().all(|(name, value)| plain(value, *name == "E"))).then_some(Subject(parts))
    }

    /// Its parts: short name and value.
    pub fn parts(&self) -> impl Iterator<Item = (&'static str, &str)> {
        self.0.iter().map(|(name, value)| (*name, value.as_str()))
    }

    /// Its parts: object identifier and value.
    pub fn attributes(&self) -> impl Iterator<Item = (Vec<u64>, &str)> {
        self.0.iter().map(|(name, value)| {
            let id = ATTRIBUTES.iter().find(|(short, _)| short == name).map_or("", |(_, id)| *id);
            (id.split('.').filter_map(|number| number.parse().ok()).collect(), value.as_str())
        })
    }

    /// The same from the last part to the first, as RFC 4514 writes it.
    pub fn turned(&self) -> Subject {
        Subject(self.0.iter().rev().cloned().collect())
    }

    /// Whether it has the parts of another one, in whatever order.
    pub fn has_parts_of(&self, other: &Subject) -> bool {
        let sorted = |subject: &Subject| {
            let mut parts = subject.0.clone();
            parts.sort();
            parts
        };
        sorted(self) == sorted(other)
    }

    /// With a slash before each part, and names as OpenSSL has them (openssl(1), `-subj`).
    pub fn slashed(&self) -> String {
        let name = |short| if short == "E" { LONG_MAIL } else { short };
        self.0.iter().map(|(short, value)| format!("/{}={value}", name(*short))).collect()
    }
}

/// A mail address as OpenSSL calls it.
const LONG_MAIL: &str = "emailAddress";

/// Whether a value stands alike in every dialect.
fn plain(value: &str, is_mail: bool) -> bool {
    let ends_alike = !value.starts_with(' ') && !value.ends_with(' ') && !value.contains("  ");
    (1..=64).contains(&value.len())
        && ends_alike
        && value.bytes().all(|b| b.is_ascii_alphanumeric() || b" ().-_".contains(&b) || is_mail && b == b'@')
}

impl fmt::Display for Subject {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (i, (name, value)) in self.parts().enumerate() {
            write!(f, "{}{name}={value}", if i > 0 { ", " } else { "" })?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_subject_reads_in_both_spellings() {
        let subject = Subject::read("c=US,O = Alder Creek Orchards , CN=packhouse").expect("a subject");
        assert_eq!(subject.to_string(), "C=US, O=Alder Creek Orchards, CN=packhouse");
        assert_eq!(subject.slashed(), "/C=US/O=Alder Creek Orchards/CN=packhouse");
        assert_eq!(Subject::read_slashed(&subject.slashed()), Some(subject.clone()));
        assert_eq!(subject.turned().to_string(), "CN=packhouse, O=Alder Creek Orchards, C=US");
        assert_eq!(Subject::read(&subject.turned().to_string()).map(|turned| turned.turned()), Some(subject));
    }

    #[test]
    fn a_mail_address_is_called_as_each_has_it() {
        let subject = Subject::read("CN=packhouse, emailAddress=post@packhouse.example.net").expect("a subject");
        assert_eq!(subject.to_string(), "CN=packhouse, E=post@packhouse.example.net");
        assert_eq!(subject.slashed(), "/CN=packhouse/emailAddress=post@packhouse.example.net");
        assert_eq!(Subject::read_slashed(&subject.slashed()), Some(subject));
        assert_eq!(Subject::read("CN=post@packhouse.example.net"), None);
    }

    #[test]
    fn what_some_dialect_would_read_otherwise_is_no_subject() {
        for wrong in ["", "packhouse", "CN=", "CN=a/b", "CN=a+b", "X=a", "CN=a,", "CN=ä", "CN=a  b", "CN=a\"b", "CN=a=b", "O=A, Inc., CN=b"]
        {
            assert_eq!(Subject::read(wrong), None, "{wrong}");
        }
        assert_eq!(Subject::read_slashed("CN=a"), None);
    }
}
