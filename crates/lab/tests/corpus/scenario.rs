//! A scenario of a suite: two gateways, and what the suite says comes of them.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

use uspan_core::{Tree, TreeFile};

/// What a suite says.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Outcome {
    /// SAs are there.
    Up,
    /// They are not.
    Down,
    /// It does not tell.
    Untold,
}

/// Two gateways of a suite.
pub struct Scenario {
    /// The suite, and its name there.
    pub name: String,
    /// The platforms of the two, in the program's words.
    pub platforms: [&'static str; 2],
    /// What the suite calls them.
    pub hosts: [String; 2],
    /// Their files, as they are when the first connection is opened.
    pub trees: [Tree; 2],
    /// The same with all connections that are there at the end.
    pub whole: [Tree; 2],
    /// The connection that is opened first, where the suite names it.
    pub opened: Option<String>,
    /// What comes of it.
    pub outcome: Outcome,
    /// With what packets are protected, in the program's words, where the suite shows it.
    pub protection: Option<String>,
}

impl Scenario {
    /// The suite that it is of, and whose files its first gateway has.
    pub fn suite(&self) -> String {
        let suite = self.name.split('/').next().unwrap_or_default();
        if self.platforms[0] == "strongswan-starter" { format!("{suite} (starter)") } else { suite.to_owned() }
    }

    /// Whether the suite of another release has the same one; keys and certificates are supplied, and new each time.
    pub fn is_alike(&self, other: &Scenario) -> bool {
        let told = |one: &Scenario| (one.outcome, one.opened.clone(), one.protection.clone());
        let files = |one: &Scenario| {
            let trees = one.trees.iter().chain(&one.whole).cloned();
            let own = trees.map(|tree| tree.files.into_iter().filter(|(_, file)| !file.text.contains("-----BEGIN")).collect());
            own.collect::<Vec<BTreeMap<_, _>>>()
        };
        told(self) == told(other) && files(self) == files(other)
    }
}

/// Adds a file below a folder to a tree, and everything below it.
pub fn take(tree: &mut Tree, from: &Path, below: &str) {
    let Ok(entries) = fs::read_dir(from) else { return };
    for entry in entries.flatten() {
        let path = format!("{below}/{}", entry.file_name().to_string_lossy());
        if entry.path().is_dir() {
            take(tree, &entry.path(), &path);
        } else if let Ok(text) = fs::read_to_string(entry.path()) {
            tree.add(path, TreeFile::public(text));
        }
    }
}

/// The name of an algorithm of a suite in the program's words: `AES_CBC` of 128 bits, `HMAC_SHA2_256_128`.
fn plain(name: &str, bits: &str) -> Option<String> {
    let hash = |name: &str| {
        let name = name.strip_prefix("HMAC_").or(name.strip_prefix("AES_")).or(name.strip_prefix("AUTH_")).unwrap_or(name);
        Some(match name {
            "SHA1_96" | "SHA1" => "sha1",
            "MD5_96" | "MD5" => "md5",
            "SHA2_256_128" | "SHA2_256" => "sha2-256",
            "SHA2_384_192" => "sha2-384",
            "SHA2_512_256" | "SHA2_512" => "sha2-512",
            "XCBC_96" => "aes-xcbc",
            "CMAC_96" => "aes-cmac",
            _ => return None,
        })
    };
    Some(match name {
        "AES_CBC" => format!("aes-{bits}-cbc"),
        "AES_CTR" => format!("aes-{bits}-ctr"),
        "AES_GCM_16" | "AES_GCM" | "AES_GCM_C" => format!("aes-{bits}-gcm"),
        "AES_GCM_12" | "AES_GCM_B" => format!("aes-{bits}-gcm-12"),
        "AES_GCM_8" | "AES_GCM_A" => format!("aes-{bits}-gcm-8"),
        "AES_CCM_16" | "AES_CCM_C" => format!("aes-{bits}-ccm"),
        "AES_CCM_12" | "AES_CCM_B" => format!("aes-{bits}-ccm-12"),
        "AES_CCM_8" | "AES_CCM_A" => format!("aes-{bits}-ccm-8"),
        "CHACHA20_POLY1305" => "chacha20-poly1305".to_owned(),
        "3DES_CBC" | "3DES" => "3des-cbc".to_owned(),
        "CAMELLIA_CBC" => format!("camellia-{bits}-cbc"),
        "CAMELLIA_CTR" => format!("camellia-{bits}-ctr"),
        "NULL" => "null".to_owned(),
        "NULL_AUTH_AES_GMAC" => format!("aes-{bits}-gmac"),
        hashed => return hash(hashed).map(str::to_owned),
    })
}

/// Cipher and integrity algorithm as a suite prints them: `AES_GCM_16_256` and `NONE`.
pub fn protection(cipher: (&str, &str), integrity: &str) -> Option<String> {
    let cipher = plain(cipher.0, cipher.1)?;
    match integrity {
        "NONE" | "" => Some(cipher),
        one => Some(format!("{cipher} + {}", plain(one, "")?)),
    }
}
