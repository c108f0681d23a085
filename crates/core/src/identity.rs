//! Identities as RFC 7296 section 3.5 defines them.

use std::fmt;
use std::net::IpAddr;

use crate::subject::Subject;

/// How an end of a tunnel names itself.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
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
}

impl Identity {
    /// The kind in the words of the description.
    pub fn kind(&self) -> &'static str {
        match self {
            Identity::Address(_) => "address",
            Identity::Name(_) => "name",
            Identity::Mail(_) => "mail",
            Identity::Free(_) => "free",
            Identity::Subject(_) => "subject",
        }
    }
}

impl fmt::Display for Identity {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Identity::Address(address) => write!(f, "{address}"),
            Identity::Subject(subject) => write!(f, "{subject}"),
            Identity::Name(text) | Identity::Mail(text) | Identity::Free(text) => f.write_str(text),
        }
    }
}
