//! Reads and makes keys: ECDSA on the curves P-256 and P-384 (FIPS 186-5), which every platform with keys takes.

use std::fs;
use std::io;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;

use p384::pkcs8::{DecodePrivateKey as _, DecodePublicKey as _, EncodePrivateKey as _, EncodePublicKey as _, LineEnding};
use uspan_core::{KeyFile, PublicKey, Secret};
use zeroize::Zeroizing;

use crate::failure::Failure;

/// No key of these curves is as long.
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
    let meta = fs::metadata(path)?;
    if !meta.is_file() || meta.len() > LARGEST {
        return Err(io::Error::other("it is not a file with a key"));
    }
    Ok((Zeroizing::new(fs::read_to_string(path)?), meta.permissions().mode() & 0o077 != 0))
}

fn understood(text: &str, exposed: bool) -> Option<KeyFile> {
    let public = |pem: Option<String>| PublicKey::from_pem(&pem?);
    if text.contains("PRIVATE KEY") {
        // Written anew, so that the same key is the same text.
        let (pem, pem_public) = if let Ok(key) = p384::SecretKey::from_pkcs8_pem(text) {
            (key.to_pkcs8_pem(LineEnding::LF).ok()?, key.public_key().to_public_key_pem(LineEnding::LF).ok())
        } else {
            let key = p256::SecretKey::from_pkcs8_pem(text).ok()?;
            (key.to_pkcs8_pem(LineEnding::LF).ok()?, key.public_key().to_public_key_pem(LineEnding::LF).ok())
        };
        let pem = Secret::new(pem.as_bytes().to_vec());
        return Some(KeyFile::Private { pem, public: public(pem_public)?, exposed });
    }
    let pem = match p384::PublicKey::from_public_key_pem(text) {
        Ok(key) => key.to_public_key_pem(LineEnding::LF).ok(),
        Err(_) => p256::PublicKey::from_public_key_pem(text).ok()?.to_public_key_pem(LineEnding::LF).ok(),
    };
    public(pem).map(KeyFile::Public)
}

/// A pair as PEM texts: the private and the public key.
pub fn generate() -> Result<(Zeroizing<String>, String), Failure> {
    let mut bytes = Zeroizing::new([0u8; 48]);
    // Bytes that are no key, because they reach the order of the curve, are drawn again.
    let key = loop {
        getrandom::fill(bytes.as_mut()).map_err(Failure::Random)?;
        if let Ok(key) = p384::SecretKey::from_slice(bytes.as_ref()) {
            break key;
        }
    };
    let private = key.to_pkcs8_pem(LineEnding::LF).map_err(unwritten)?;
    Ok((private, key.public_key().to_public_key_pem(LineEnding::LF).map_err(unwritten)?))
}

fn unwritten<E>(_: E) -> Failure {
    Failure::Usage("the key cannot be written as PEM".to_owned())
}
