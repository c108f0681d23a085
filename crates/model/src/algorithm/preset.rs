//! The strengths a description can name instead of writing proposals.

/// One IKE proposal of a preset: cipher, integrity (empty with a combined-mode cipher), PRF, group.
pub type PresetIke = (&'static str, &'static str, &'static str, &'static str);
/// One ESP proposal of a preset: cipher, integrity (empty with a combined-mode cipher).
pub type PresetEsp = (&'static str, &'static str);

/// A row of the table of strengths.
#[derive(Debug)]
pub struct Preset {
    /// The word in the description.
    pub name: &'static str,
    /// What it is for.
    pub purpose: &'static str,
    /// IKE proposals in order of preference.
    pub ike: &'static [PresetIke],
    /// ESP proposals in order of preference; PFS takes the group of the first IKE proposal agreed.
    pub esp: &'static [PresetEsp],
}

/// All strengths. Every proposal named here is free of weak algorithms (a test).
#[rustfmt::skip]
pub static PRESETS: &[Preset] = &[
    Preset {
        name: "strong",
        purpose: "256-bit keys and a group of 192 bits of strength; for current gateways on both ends",
        ike: &[
            ("aes-256-gcm", "",         "sha2-384", "ecp-384"),
            ("aes-256-cbc", "sha2-384", "sha2-384", "ecp-384"),
            ("aes-256-cbc", "sha2-512", "sha2-512", "modp-4096"),
        ],
        esp: &[
            ("aes-256-gcm",       ""),
            ("chacha20-poly1305", ""),
            ("aes-256-cbc",       "sha2-512"),
        ],
    },
    Preset {
        name: "brisk",
        purpose: "128 bits of strength with the least work; for small gateways and slow processors",
        ike: &[
            ("aes-128-gcm",       "",         "sha2-256", "curve25519"),
            ("chacha20-poly1305", "",         "sha2-256", "curve25519"),
            ("aes-128-cbc",       "sha2-256", "sha2-256", "ecp-256"),
        ],
        esp: &[
            ("aes-128-gcm",       ""),
            ("chacha20-poly1305", ""),
            ("aes-128-cbc",       "sha2-256"),
            ("aes-128-cbc",       "sha2-384"),
        ],
    },
    Preset {
        name: "common",
        purpose: "what RFC 8221 and RFC 8247 require of everyone; for partners whose device is older or unknown",
        ike: &[
            ("aes-256-cbc", "sha2-256", "sha2-256", "modp-2048"),
            ("aes-128-cbc", "sha2-256", "sha2-256", "modp-2048"),
        ],
        esp: &[
            ("aes-256-cbc", "sha2-256"),
            ("aes-128-gcm", ""),
            ("aes-128-cbc", "sha2-256"),
            ("aes-256-cbc", "sha2-512"),
        ],
    },
];

/// The preset of this name.
pub fn preset(name: &str) -> Option<&'static Preset> {
    PRESETS.iter().find(|preset| preset.name == name)
}

#[cfg(test)]
mod tests {
    use super::super::{Kind, named};
    use super::*;

    fn sound(kind: Kind, name: &str) {
        let row = named(kind, name).row().expect("registered");
        assert!(row.weak.is_empty(), "{name}: {}", row.weak);
    }

    #[test]
    fn presets_name_only_sound_algorithms() {
        for preset in PRESETS {
            for (cipher, integrity, prf, group) in preset.ike {
                sound(Kind::Encryption, cipher);
                sound(Kind::Prf, prf);
                sound(Kind::KeyExchange, group);
                assert_eq!(integrity.is_empty(), named(Kind::Encryption, cipher).is_aead());
                if !integrity.is_empty() {
                    sound(Kind::Integrity, integrity);
                }
            }
            for (cipher, integrity) in preset.esp {
                sound(Kind::Encryption, cipher);
                assert_eq!(integrity.is_empty(), named(Kind::Encryption, cipher).is_aead());
            }
        }
    }
}
