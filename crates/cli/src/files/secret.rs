//! Draws secrets.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD_NO_PAD;
use uspan_core::Secret;
use zeroize::Zeroizing;

use super::strength;
use crate::failure::Failure;

/// A new secret as text: 256 random bits in base64.
pub fn generate() -> Result<Zeroizing<String>, Failure> {
    loop {
        let mut bytes = Zeroizing::new([0u8; 32]);
        getrandom::fill(bytes.as_mut()).map_err(Failure::Random)?;
        let text = Zeroizing::new(STANDARD_NO_PAD.encode(*bytes));
        // Such a beginning means "encoded" to some daemons; and one in a thousand does not look drawn, and would get no fingerprint.
        if !text.starts_with('0') && strength::drawn(&Secret::new(text.as_bytes().to_vec())).is_some() {
            return Ok(text);
        }
    }
}
