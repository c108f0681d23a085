//! Certificates (RFC 5280): whom they name, who signed them, how long they hold.

use std::fmt;
use std::net::IpAddr;

use x509_parser::certificate::X509Certificate;
use x509_parser::extensions::GeneralName;
use x509_parser::pem::Pem;
use x509_parser::prelude::FromDer as _;

use super::{KeyKind, PublicKey, pem};
use crate::identity::Identity;
use crate::subject::Subject;

/// The organisation in whose name the lab's own authority issues; no gateway in production is to believe it.
pub const LAB_ORGANISATION: &str = "Unified Span lab - not for production";

/// A certificate: its PEM text, lines ended by a line feed.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Certificate(String);

impl Certificate {
    /// Takes the PEM text of one certificate; nothing if it is something else.
    pub fn from_pem(text: &str) -> Option<Certificate> {
        let certificate = Certificate(pem(text, "CERTIFICATE")?);
        certificate.parsed(|_| ()).map(|()| certificate)
    }

    /// The PEM text.
    pub fn pem(&self) -> &str {
        &self.0
    }

    fn parsed<T>(&self, take: impl FnOnce(&X509Certificate<'_>) -> T) -> Option<T> {
        let pem = contents(&self.0)?;
        let (rest, parsed) = X509Certificate::from_der(&pem.contents).ok()?;
        rest.is_empty().then(|| take(&parsed))
    }

    /// Its public key.
    pub fn public(&self) -> PublicKey {
        PublicKey::from_der(&self.parsed(|parsed| parsed.public_key().raw.to_vec()).unwrap_or_default())
    }

    /// What its key is.
    pub fn kind(&self) -> KeyKind {
        self.parsed(|parsed| KeyKind::of(parsed.public_key())).unwrap_or(KeyKind::Other)
    }

    /// The identities that it names beside its subject (RFC 5280 section 4.2.1.6), in its order.
    pub fn identities(&self) -> Vec<Identity> {
        let of = |parsed: &X509Certificate<'_>| -> Vec<Identity> {
            let Ok(Some(names)) = parsed.subject_alternative_name() else { return Vec::new() };
            names.value.general_names.iter().filter_map(identity).collect()
        };
        self.parsed(of).unwrap_or_default()
    }

    /// Whether it names an identity, as daemons compare them: names of hosts and mail domains in any case.
    pub fn names(&self, identity: &Identity) -> bool {
        let same = |one: &Identity| match (one, identity) {
            (Identity::Name(one), Identity::Name(other)) | (Identity::Mail(one), Identity::Mail(other)) => one.eq_ignore_ascii_case(other),
            (one, other) => one == other,
        };
        match identity {
            Identity::Subject(subject) => self.distinguished_name().as_ref() == Some(subject),
            _ => self.identities().iter().any(same),
        }
    }

    /// The subject, where every platform can carry it.
    pub fn distinguished_name(&self) -> Option<Subject> {
        let of = |parsed: &X509Certificate<'_>| {
            Subject::from_attributes(parsed.subject().iter().map(|part| {
                let mut attributes = part.iter();
                let (Some(attribute), None) = (attributes.next(), attributes.next()) else { return None };
                Some((attribute.attr_type().to_id_string(), attribute.as_str().ok()?.to_owned()))
            }))
        };
        self.parsed(of).flatten()
    }

    /// The subject, for people.
    pub fn subject(&self) -> String {
        self.parsed(|parsed| parsed.subject().to_string()).unwrap_or_default()
    }

    /// The first and the last second in which it holds, since 1970.
    pub fn validity(&self) -> [i64; 2] {
        let of = |parsed: &X509Certificate<'_>| [parsed.validity().not_before.timestamp(), parsed.validity().not_after.timestamp()];
        self.parsed(of).unwrap_or([0, 0])
    }

    /// Whether it may issue others (RFC 5280 section 4.2.1.9).
    pub fn is_authority(&self) -> bool {
        self.parsed(|parsed| parsed.is_ca()).unwrap_or(false)
    }

    /// Whether it may be used for what IKE needs: where it is limited to purposes (RFC 5280 section 4.2.1.12), one of them is IKE
    /// (RFC 4945 section 5.1.3.12), or what daemons take for it.
    pub fn is_for_ike(&self) -> bool {
        const IKE: &str = "1.3.6.1.5.5.7.3.17";
        let of = |parsed: &X509Certificate<'_>| match parsed.extended_key_usage() {
            Ok(Some(purposes)) => {
                let purposes = purposes.value;
                purposes.any || purposes.server_auth || purposes.client_auth || purposes.other.iter().any(|one| one.to_id_string() == IKE)
            }
            Ok(None) => true,
            Err(_) => false,
        };
        self.parsed(of).unwrap_or(false)
    }

    /// Whether an authority issued it: the names fit and the signature holds.
    pub fn issued_by(&self, authority: &Certificate) -> bool {
        let Some(pem) = contents(&authority.0) else { return false };
        let Ok((_, issuer)) = X509Certificate::from_der(&pem.contents) else { return false };
        let fits = |own: &X509Certificate<'_>| {
            own.issuer().as_raw() == issuer.subject().as_raw() && own.verify_signature(Some(issuer.public_key())).is_ok()
        };
        issuer.is_ca() && self.parsed(fits).unwrap_or(false)
    }

    /// Whether the lab's own authority issued it.
    pub fn is_of_lab(&self) -> bool {
        let of = |parsed: &X509Certificate<'_>| {
            parsed.issuer().iter_organization().any(|organisation| organisation.as_str() == Ok(LAB_ORGANISATION))
        };
        self.parsed(of).unwrap_or(false)
    }
}

fn contents(text: &str) -> Option<Pem> {
    x509_parser::pem::parse_x509_pem(text.as_bytes()).ok().map(|(_, pem)| pem)
}

fn identity(name: &GeneralName<'_>) -> Option<Identity> {
    match name {
        GeneralName::DNSName(name) => Some(Identity::Name((*name).to_owned())),
        GeneralName::RFC822Name(name) => Some(Identity::Mail((*name).to_owned())),
        GeneralName::IPAddress(bytes) => {
            let four = <[u8; 4]>::try_from(*bytes).map(IpAddr::from);
            let address = four.or_else(|_| <[u8; 16]>::try_from(*bytes).map(IpAddr::from)).ok()?;
            Some(Identity::Address(address))
        }
        _ => None,
    }
}

impl fmt::Debug for Certificate {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Certificate of {}", self.subject())
    }
}
