//! Who is believed by a key or a certificate.

use uspan_model::gateway::{Connection, Gateway, Method};
use uspan_model::key::Certificate;

/// What becomes of what a gateway signs with.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum KeyFit {
    /// The peer believes it.
    Believed,
    /// There is no key to sign with among the files.
    NoKey,
    /// There is no certificate among the files; a daemon may keep it in a database of its own.
    NoCertificate,
    /// The peer knows another key, or none.
    NotPinned,
    /// The peer has no authority that issued the certificate.
    NotIssued,
    /// The peer takes certificates of another authority alone.
    OfAnother,
    /// It is not shown, and the peer has not got it.
    Withheld,
}

/// How a gateway that signs and the peer that judges it fit, each with its connection, where there is no shared secret.
pub(crate) fn key_fit((signer, shows): (&Gateway, &Connection), (judge, judges): (&Gateway, &Connection)) -> KeyFit {
    if shows.ike().local_method.value == Method::Certificate {
        let Some(own) = signer.own_certificate(shows) else { return KeyFit::NoCertificate };
        // A daemon that has the peer's certificate itself asks for no authority.
        if judge.pinned_key(judges) == Some(&own.public()) {
            return KeyFit::Believed;
        }
        if shows.ike().certification.withheld.value {
            return KeyFit::Withheld;
        }
        let wanted = &judges.ike().certification.issuer.value;
        let issued = judge.authorities.iter().filter(|issuer| own.issued_by(issuer));
        let fits = |issuer: &Certificate| wanted.is_none() || issuer.distinguished_name() == *wanted;
        return match issued.map(fits).max() {
            None => KeyFit::NotIssued,
            Some(false) => KeyFit::OfAnother,
            Some(true) => KeyFit::Believed,
        };
    }
    match signer.own_key(shows) {
        None => KeyFit::NoKey,
        signs if signs == judge.pinned_key(judges) => KeyFit::Believed,
        _ => KeyFit::NotPinned,
    }
}
