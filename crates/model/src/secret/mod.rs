//! Secrets: a type that does not print, and the rules for reading one from a file.

use std::fmt;
use std::sync::OnceLock;

use ring::hkdf::{HKDF_SHA256, Prk};
use ring::hmac::{HMAC_SHA256, Key, sign};
use subtle::ConstantTimeEq;
use zeroize::Zeroizing;

/// The bytes of a shared secret. It has no `Display`, its `Debug` hides it, it compares in constant
/// time and is wiped when dropped.
#[derive(Clone)]
pub struct Secret {
    bytes: Zeroizing<Vec<u8>>,
    /// What the secrets of pairs are derived from, once one was.
    extracted: OnceLock<Zeroizing<Vec<u8>>>,
}

impl Secret {
    /// Takes the bytes.
    pub fn new(bytes: Vec<u8>) -> Self {
        Secret { bytes: Zeroizing::new(bytes), extracted: OnceLock::new() }
    }

    /// The secret on the single line of a file: the content without its line end.
    ///
    /// # Errors
    /// When there is more than one line.
    pub fn from_file(content: &[u8]) -> Result<Self, SeveralLines> {
        let line = content.strip_suffix(b"\n").unwrap_or(content);
        let line = line.strip_suffix(b"\r").unwrap_or(line);
        if line.contains(&b'\n') || line.contains(&b'\r') {
            return Err(SeveralLines);
        }
        Ok(Secret::new(line.to_vec()))
    }

    /// The secret of a pair, derived from this one: HKDF with SHA-256 (RFC 5869), the names of the two sites, in their order
    /// of the alphabet, and the generation as context. Whoever knows one of them knows nothing of another.
    pub fn of_pair(&self, sites: [&str; 2], generation: u32) -> Secret {
        let mut sites = sites;
        sites.sort_unstable();
        let context = format!("unified-span pair 1\0{}\0{}\0{generation}", sites[0], sites[1]);
        let mut bytes = Zeroizing::new([0; 32]);
        // Extracted without a salt (RFC 5869 section 2.2), once for all pairs.
        let extracted = self.extracted.get_or_init(|| Zeroizing::new(sign(&Key::new(HMAC_SHA256, &[]), &self.bytes).as_ref().to_vec()));
        let extracted = Prk::new_less_safe(HKDF_SHA256, extracted);
        let context = [context.as_bytes()];
        let expanded = extracted.expand(&context, HKDF_SHA256).and_then(|key| key.fill(bytes.as_mut()));
        expanded.expect("32 bytes are within what RFC 5869 allows");
        // In digits, so that it can be typed into whatever the other end is.
        Secret::new(Secret::new(bytes.to_vec()).to_hex().as_bytes().to_vec())
    }

    /// The only way to the bytes; for writing a gateway's secrets file and for judging strength.
    pub fn expose(&self) -> &[u8] {
        &self.bytes
    }

    /// The bytes in lower-case hexadecimal, wiped when dropped.
    pub fn to_hex(&self) -> Zeroizing<String> {
        const DIGITS: &[u8; 16] = b"0123456789abcdef";
        let mut hex = String::with_capacity(self.bytes.len() * 2);
        for byte in self.bytes.iter() {
            hex.push(char::from(DIGITS[usize::from(byte >> 4)]));
            hex.push(char::from(DIGITS[usize::from(byte & 15)]));
        }
        Zeroizing::new(hex)
    }

    /// Decodes hexadecimal digits.
    pub fn from_hex(digits: &str) -> Option<Self> {
        if !digits.len().is_multiple_of(2) || digits.is_empty() {
            return None;
        }
        let value = |byte: u8| match byte {
            b'0'..=b'9' => Some(byte - b'0'),
            b'a'..=b'f' => Some(byte - b'a' + 10),
            b'A'..=b'F' => Some(byte - b'A' + 10),
            _ => None,
        };
        // Of one piece: what grows leaves copies behind.
        let mut bytes = Zeroizing::new(Vec::with_capacity(digits.len() / 2));
        for pair in digits.as_bytes().chunks_exact(2) {
            bytes.push(value(pair[0])? << 4 | value(pair[1])?);
        }
        Some(Secret::new(std::mem::take(&mut *bytes)))
    }

    /// Decodes base64 (RFC 4648 section 4), with its padding or without.
    pub fn from_base64(text: &str) -> Option<Self> {
        use base64::Engine as _;
        use base64::engine::general_purpose::STANDARD_NO_PAD;
        STANDARD_NO_PAD.decode(text.trim_end_matches('=')).ok().filter(|bytes| !bytes.is_empty()).map(Secret::new)
    }
}

/// More than one line where one secret belongs.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct SeveralLines;

impl fmt::Debug for Secret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("[secret]")
    }
}

impl PartialEq for Secret {
    fn eq(&self, other: &Self) -> bool {
        self.bytes.ct_eq(&other.bytes).into()
    }
}

impl Eq for Secret {}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_secret_does_not_print() {
        let secret = Secret::new(b"pear and quince".to_vec());
        assert_eq!(format!("{secret:?}"), "[secret]");
    }

    #[test]
    fn the_line_end_does_not_belong_to_it() {
        for content in [&b"abc"[..], b"abc\n", b"abc\r\n"] {
            assert_eq!(Secret::from_file(content).expect("one line").expose(), b"abc");
        }
        assert_eq!(Secret::from_file(b"abc\n\n"), Err(SeveralLines));
        assert_eq!(Secret::from_file(b" abc ").expect("one line").expose(), b" abc ");
    }

    proptest! {
        #[test]
        fn hex_round_trips(bytes in proptest::collection::vec(any::<u8>(), 1..64)) {
            let secret = Secret::new(bytes);
            prop_assert_eq!(Secret::from_hex(&secret.to_hex()), Some(secret));
        }

        #[test]
        fn base64_is_decoded_with_padding_and_without(bytes in proptest::collection::vec(any::<u8>(), 1..64)) {
            use base64::Engine as _;
            let text = base64::engine::general_purpose::STANDARD.encode(&bytes);
            prop_assert_eq!(Secret::from_base64(&text), Some(Secret::new(bytes.clone())));
            prop_assert_eq!(Secret::from_base64(text.trim_end_matches('=')), Some(Secret::new(bytes)));
        }

        #[test]
        fn any_text_is_hex_or_not(text in ".{0,20}") {
            let _ = Secret::from_hex(&text);
        }
    }
}
