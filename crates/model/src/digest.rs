//! A digest that is the same on every machine and in every version, for names and numbers that follow from a name.

/// FNV-1a, 32 bits (draft-eastlake-fnv).
pub fn digest(text: &str) -> u32 {
    text.bytes().fold(0x811c_9dc5, |hash, byte| (hash ^ u32::from(byte)).wrapping_mul(0x0100_0193))
}

/// Bytes in lower-case hexadecimal.
pub fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_is_the_published_one() {
        // From the test vectors of draft-eastlake-fnv.
        assert_eq!((digest(""), digest("a"), digest("foobar")), (0x811c_9dc5, 0xe40c_292c, 0xbf9c_f968));
    }
}
