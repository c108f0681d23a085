//! Reads and makes keys: ECDSA on the curves P-256 and P-384 (FIPS 186-5), which every platform with keys takes.

use std::fs;
use std::io;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;

use p384::elliptic_curve::rand_core::{self, CryptoRng, RngCore};
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
    // Bytes are drawn beforehand, so that a system without randomness is an error and no panic.
    let mut drawn = Drawn { bytes: Zeroizing::new([0; 256]), at: 0 };
    getrandom::fill(drawn.bytes.as_mut()).map_err(Failure::Random)?;
    let key = p384::SecretKey::random(&mut drawn);
    let unwritten = |_| Failure::Usage("the key cannot be written as PEM".to_owned());
    let private = key.to_pkcs8_pem(LineEnding::LF).map_err(unwritten)?;
    let public =
        key.public_key().to_public_key_pem(LineEnding::LF).map_err(|_| Failure::Usage("the key cannot be written as PEM".to_owned()))?;
    Ok((private, public))
}

/// Random bytes of the system, drawn in one go; far more than a key takes.
struct Drawn {
    bytes: Zeroizing<[u8; 256]>,
    at: usize,
}

impl RngCore for Drawn {
    fn next_u32(&mut self) -> u32 {
        rand_core::impls::next_u32_via_fill(self)
    }

    fn next_u64(&mut self) -> u64 {
        rand_core::impls::next_u64_via_fill(self)
    }

    fn fill_bytes(&mut self, into: &mut [u8]) {
        for byte in into {
            *byte = self.bytes[self.at % self.bytes.len()];
            self.at += 1;
        }
    }

    fn try_fill_bytes(&mut self, into: &mut [u8]) -> Result<(), rand_core::Error> {
        self.fill_bytes(into);
        Ok(())
    }
}

impl CryptoRng for Drawn {}
