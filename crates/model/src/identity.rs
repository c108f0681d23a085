//! Identities as RFC 7296 section 3.5 defines them.

use std::fmt;
use std::net::IpAddr;

use crate::subject::Subject;

/// How an end of a tunnel names itself.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Identity {
    /// ID_IPV4_ADDR or ID_IPV6_ADDR.
    Address(IpAddr),
    /// ID_FQDN.
    Name(String),
    /// ID_RFC822_ADDR.
    Mail(String),
    /// ID_KEY_ID.
    Free(String),
    /// ID_DER_ASN1_DN: the subject of the certificate that it shows.
    Subject(Subject),
    /// Whoever can prove to be anybody: where a configuration does not say whom it expects.
    Anybody,
    /// What follows from something that the files do not show, in words; where nothing is said of who an end is.
    Implied(&'static str),
}

impl Identity {
    /// Whether one who is expected to be this is taken to be it where it shows the other.
    pub fn takes(&self, shown: &Identity) -> bool {
        *self == Identity::Anybody || self == shown
    }

    /// With its kind, for people.
    pub fn words(&self) -> String {
        format!("{self} ({})", self.kind())
    }

    /// The kind in the words of the description.
    pub fn kind(&self) -> &'static str {
        match self {
            Identity::Address(_) => "address",
            Identity::Name(_) => "name",
            Identity::Mail(_) => "mail",
            Identity::Free(_) => "free",
            Identity::Subject(_) => "subject",
            Identity::Anybody => "any",
            Identity::Implied(_) => "not said",
        }
    }
}

impl fmt::Display for Identity {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Identity::Address(address) => write!(f, "{address}"),
            Identity::Subject(subject) => write!(f, "{subject}"),
            Identity::Anybody => f.write_str("anybody"),
            Identity::Implied(words) => f.write_str(words),
            Identity::Name(text) | Identity::Mail(text) | Identity::Free(text) => f.write_str(text),
        }
    }
}
