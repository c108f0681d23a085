//! Reads and makes keys: ECDSA on the curves P-256 and P-384 (FIPS 186-5), which every platform with keys takes; with
//! certificates RSA (RFC 8017) too.

use std::io;
use std::path::Path;

#[cfg(feature = "certificates")]
use rcgen::{KeyPair, PublicKeyData as _};
#[cfg(feature = "certificates")]
use uspan_core::Secret;
use uspan_core::{Certificate, KeyFile, KeyKind, PublicKey};
use zeroize::Zeroizing;

use super::reading;
#[cfg(feature = "certificates")]
use crate::failure::Failure;

/// No key or certificate is as long.
const LARGEST: u64 = 16 * 1024;

/// What a file holds.
pub fn read(path: &Path) -> KeyFile {
    match content(path) {
        Ok((text, exposed)) => understood(&text, exposed).unwrap_or(KeyFile::NotAKey),
        Err(error) if error.kind() == io::ErrorKind::NotFound => KeyFile::Missing,
        Err(error) => KeyFile::Unreadable(error.to_string()),
    }
}

fn content(path: &Path) -> io::Result<(Zeroizing<String>, bool)> {
    let (content, mode) = reading::bytes(path, LARGEST)?;
    match std::str::from_utf8(&content) {
        Ok(text) => Ok((Zeroizing::new(text.to_owned()), mode & 0o077 != 0)),
        Err(_) => Err(io::Error::other("it is not a file with a key")),
    }
}

fn understood(text: &str, exposed: bool) -> Option<KeyFile> {
    if text.contains("PRIVATE KEY") {
        return private(text, exposed);
    }
    if let Some(certificate) = Certificate::from_pem(text) {
        return Some(KeyFile::Certificate(certificate));
    }
    PublicKey::from_pem(text).filter(|public| public.kind() == Some(KeyKind::Ecdsa)).map(KeyFile::Public)
}

#[cfg(not(feature = "certificates"))]
fn private(_text: &str, _exposed: bool) -> Option<KeyFile> {
    Some(KeyFile::Unreadable("this program was built without `certificates`, and reads no private keys".to_owned()))
}

#[cfg(feature = "certificates")]
fn private(text: &str, exposed: bool) -> Option<KeyFile> {
    let key = KeyPair::from_pem(text).ok()?;
    let public = PublicKey::from_der(&key.subject_public_key_info());
    // Written anew, so that the same key is the same text.
    let pem = private_pem(&key);
    let taken = matches!(public.kind(), Some(KeyKind::Ecdsa | KeyKind::Rsa(_)));
    taken.then(|| KeyFile::Private { pem: Secret::new(pem.as_bytes().to_vec()), public, exposed })
}

/// A new key on the curve P-384.
#[cfg(feature = "certificates")]
pub fn generate() -> Result<KeyPair, Failure> {
    KeyPair::generate_for(&rcgen::PKCS_ECDSA_P384_SHA384).map_err(Failure::Key)
}

/// Its private part as a PEM text.
#[cfg(feature = "certificates")]
pub fn private_pem(key: &KeyPair) -> Zeroizing<String> {
    let pem = Zeroizing::new(key.serialize_pem());
    Zeroizing::new(pem.replace("\r\n", "\n"))
}

/// Its public part as a PEM text.
#[cfg(feature = "certificates")]
pub fn public_pem(key: &KeyPair) -> String {
    PublicKey::from_der(&key.subject_public_key_info()).pem().to_owned()
}
