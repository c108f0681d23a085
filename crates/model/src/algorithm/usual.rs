//! Algorithms as people spell them, in mails, on paper and on screens: `AES-256 / SHA-256 / DH 14`, `AES256-SHA256-MODP2048`,
//! `HMAC-SHA-256-128`, `2048-bit MODP`, `PRF_HMAC_SHA2_384 (6)`.

use super::atoms::{Atom, atoms};
use super::{Kind, Row, Transform};
use crate::source::Span;

/// What a text names, each kind in its order; without a word of which kind it is, a hash stands for integrity and PRF.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct UsualSpelling {
    /// Ciphers.
    pub ciphers: Vec<Transform>,
    /// Hashes, as integrity algorithms.
    pub hashes: Vec<Transform>,
    /// Hashes that were called PRFs.
    pub prfs: Vec<Transform>,
    /// Key exchange methods.
    pub groups: Vec<Transform>,
}

impl UsualSpelling {
    /// Reads a text.
    ///
    /// # Errors
    /// The place of what is not understood in it, and what is wrong there.
    pub fn read(text: &str) -> Result<UsualSpelling, (Span, &'static str)> {
        let mut reader = UsualReader { atoms: atoms(text), at: 0, found: UsualSpelling::default(), bits: None, mode: None, is_prf: false };
        while reader.at < reader.atoms.len() {
            let at = reader.at;
            reader.next().map_err(|why| (reader.atoms[at.max(reader.at.min(reader.atoms.len() - 1))].span, why))?;
        }
        match reader.bits.or(reader.mode.map(|(_, at)| (0, at))) {
            Some((_, at)) => Err((reader.atoms[at].span, NOT_UNDERSTOOD)),
            None => Ok(reader.found),
        }
    }

    /// All that it names, with a hash as an integrity algorithm.
    pub fn all(&self) -> impl Iterator<Item = Transform> + '_ {
        [&self.ciphers, &self.hashes, &self.prfs, &self.groups].into_iter().flatten().copied()
    }
}

/// The one algorithm of a kind that a text names, in whatever spelling of the trade.
pub fn usual(kind: Kind, text: &str) -> Option<&'static Row> {
    let read = UsualSpelling::read(text).ok()?;
    let mut all = read.all();
    let (one, None) = (all.next()?, all.next()) else { return None };
    let wanted = match kind {
        Kind::Prf if one.kind == Kind::Integrity => one.prf_of_hash()?,
        Kind::KeyExchange if one.kind == Kind::KeyExchange => one,
        _ => one,
    };
    wanted.row().filter(|row| row.kind == kind && !row.name.is_empty())
}

const NOT_UNDERSTOOD: &str = "it is not understood";
const NO_LENGTH: &str = "the length of the key is not said";
const UNKNOWN: &str = "no registry has it by that name";

/// Words that say nothing by themselves here.
const BESIDE: [&str; 38] = [
    "hmac",
    "encr",
    "auth",
    "and",
    "or",
    "with",
    "bit",
    "bits",
    "key",
    "keys",
    "length",
    "size",
    "algorithm",
    "algorithms",
    "enc",
    "encryption",
    "cipher",
    "ciphers",
    "integrity",
    "hash",
    "authentication",
    "random",
    "transform",
    "mode",
    "the",
    "of",
    "none",
    "no",
    "ecdh",
    "ecdhe",
    "ec",
    "elliptic",
    "curves",
    "esp",
    "ike",
    "strong",
    "using",
    "only",
];

/// Words for a key exchange, of which the number or the name follows.
const EXCHANGE: [&str; 14] =
    ["dh", "diffie", "hellman", "group", "groups", "grp", "g", "dhgroup", "dhg", "kex", "pfs", "exchange", "method", "oakley"];

struct UsualReader {
    atoms: Vec<Atom>,
    at: usize,
    found: UsualSpelling,
    /// A length that stands before what it is of, and where.
    bits: Option<(u16, usize)>,
    /// A mode before its cipher, and where.
    mode: Option<(CipherMode, usize)>,
    is_prf: bool,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum CipherMode {
    Cbc,
    Ctr,
    Gcm,
    Ccm,
    Gmac,
}

fn mode(word: &str) -> Option<CipherMode> {
    Some(match word {
        "cbc" => CipherMode::Cbc,
        "ctr" => CipherMode::Ctr,
        "gcm" => CipherMode::Gcm,
        "ccm" => CipherMode::Ccm,
        "gmac" => CipherMode::Gmac,
        _ => return None,
    })
}

fn push(list: &mut Vec<Transform>, one: Transform) -> Result<(), &'static str> {
    if one.row().is_none_or(|row| row.name.is_empty()) {
        return Err(UNKNOWN);
    }
    if !list.contains(&one) {
        list.push(one);
    }
    Ok(())
}

impl UsualReader {
    fn word(&self, ahead: usize) -> &str {
        self.atoms.get(self.at + ahead).map_or("", |atom| &atom.text)
    }

    fn number(&self, ahead: usize) -> Option<u16> {
        self.atoms.get(self.at + ahead)?.number()
    }

    /// A number of several that stands here; it is taken.
    fn one_of(&mut self, numbers: &[u16]) -> Option<u16> {
        let number = self.number(0).filter(|number| numbers.contains(number))?;
        self.at += 1;
        Some(number)
    }

    fn take(&mut self, word: &str) -> bool {
        let there = self.word(0) == word;
        self.at += usize::from(there);
        there
    }

    fn next(&mut self) -> Result<(), &'static str> {
        let word = self.word(0).to_owned();
        if let Some(number) = self.number(0) {
            return self.digits(number);
        }
        self.at += 1;
        match word.as_str() {
            "prf" => self.is_prf = true,
            "aes" | "camellia" => return self.block_cipher(word == "camellia"),
            "des" => {
                self.take("cbc");
                return push(&mut self.found.ciphers, Transform::encryption(2, 0));
            }
            "triple" | "tripledes" | "tdes" => {
                self.take("des");
                return self.triple_des();
            }
            "chacha" => {
                self.one_of(&[20]);
                self.take("poly");
                self.one_of(&[1305]);
                self.bits = None;
                self.one_of(&[256]);
                return push(&mut self.found.ciphers, Transform::encryption(28, 0));
            }
            // The registry calls integrity alone so.
            "null" if self.word(0) == "auth" && self.word(1) == "aes" => {}
            "null" if self.found.ciphers.is_empty() || self.at >= 2 && self.atoms[self.at - 2].text == "encr" => {
                return push(&mut self.found.ciphers, Transform::encryption(11, 0));
            }
            "null" => {}
            "sha" | "shs" => return self.sha(),
            "md" => {
                self.one_of(&[5]).ok_or(UNKNOWN)?;
                self.cut(&[96, 128]);
                return self.hash(1);
            }
            "xcbc" => return self.hash(5),
            "cmac" => return self.hash(8),
            "modp" => return self.modp(None),
            "ecp" | "nist" | "secp" | "prime" | "p" => return self.curve(&word),
            "x" | "curve" => {
                let number = self.one_of(&[25519, 448]).ok_or(UNKNOWN)?;
                return self.group(if number == 448 { 32 } else { 31 });
            }
            "brainpool" | "brainpoolp" | "bp" => {
                self.take("p");
                let place = [224, 256, 384, 512].iter().position(|bits| Some(*bits) == self.number(0)).ok_or(UNKNOWN)?;
                self.at += 1;
                self.revision();
                return self.group(27 + u16::try_from(place).map_err(|_| UNKNOWN)?);
            }
            "ml" | "mlkem" | "kem" => {
                self.take("kem");
                let place = [512, 768, 1024].iter().position(|size| Some(*size) == self.number(0)).ok_or(UNKNOWN)?;
                self.at += 1;
                return self.group(35 + u16::try_from(place).map_err(|_| UNKNOWN)?);
            }
            _ if EXCHANGE.contains(&word.as_str()) => return self.exchange(),
            _ if mode(&word).is_some() => {
                self.mode = mode(&word).map(|mode| (mode, self.at - 1));
                if self.word(0) != "aes" && self.word(0) != "camellia" && self.bits.is_none() {
                    self.at -= 1;
                    return Err(NOT_UNDERSTOOD);
                }
            }
            _ if BESIDE.contains(&word.as_str()) => {}
            _ => {
                self.at -= 1;
                return Err(NOT_UNDERSTOOD);
            }
        }
        Ok(())
    }

    /// Digits that stand for themselves: the length of what follows, triple DES, or the number of what stands before in its registry.
    fn digits(&mut self, number: u16) -> Result<(), &'static str> {
        let last = [&self.found.ciphers, &self.found.hashes, &self.found.prfs, &self.found.groups];
        if self.atoms[self.at].bracketed && last.into_iter().flatten().any(|one| numbers(*one).contains(&number)) {
            self.at += 1;
            return Ok(());
        }
        if number == 3 && self.word(1) == "des" {
            self.at += 2;
            return self.triple_des();
        }
        if self.bits.is_some() {
            return Err(NOT_UNDERSTOOD);
        }
        self.bits = Some((number, self.at));
        self.at += 1;
        // `256 bits` behind a cipher is its length said again, or for the first time.
        while matches!(self.word(0), "bit" | "bits") {
            self.at += 1;
        }
        Ok(())
    }

    fn triple_des(&mut self) -> Result<(), &'static str> {
        self.take("ede");
        self.take("cbc");
        self.one_of(&[168, 192]);
        self.take("cbc");
        push(&mut self.found.ciphers, Transform::encryption(3, 0))
    }

    fn block_cipher(&mut self, is_camellia: bool) -> Result<(), &'static str> {
        const LENGTHS: [u16; 3] = [128, 192, 256];
        let first = self.at - 1;
        let mut lengths: Vec<u16> = Vec::new();
        if let Some((bits, at)) = self.bits.take() {
            if !LENGTHS.contains(&bits) {
                self.at = at;
                return Err(NOT_UNDERSTOOD);
            }
            lengths.push(bits);
        }
        let (mut of, mut check, mut registered) = (self.mode.take().map(|(mode, _)| mode), None, None);
        loop {
            let combined = matches!(of, Some(CipherMode::Gcm | CipherMode::Ccm));
            let word = self.word(0).to_owned();
            if let (None, Some(mode)) = (of, mode(&word)) {
                of = Some(mode);
            } else if let Some(number) = self.number(0).filter(|number| *number < 64 && self.atoms[self.at].bracketed) {
                registered = Some((number, self.at));
            } else if matches!(word.as_str(), "xcbc" | "cmac") && of.is_none() {
                self.at += 1;
                self.cut(&[96, 128]);
                return self.hash(if word == "cmac" { 8 } else { 5 });
            } else if let Some(bits) = self.number(0).filter(|bits| LENGTHS.contains(bits) && (lengths.is_empty() || !combined)) {
                // A length of what comes next.
                let next = self.word(if matches!(self.word(1), "bit" | "bits") { 2 } else { 1 });
                if !lengths.is_empty() && matches!(next, "aes" | "camellia" | "modp" | "ecp" | "random") {
                    break;
                }
                lengths.push(bits);
            } else if let Some(bytes) = self.number(0).filter(|_| combined && check.is_none()).and_then(tag) {
                check = Some(bytes);
            } else if !matches!(word.as_str(), "bit" | "bits" | "icv" | "key" | "keys") {
                break;
            }
            self.at += 1;
        }
        if lengths.is_empty() {
            self.at = first;
            return Err(NO_LENGTH);
        }
        // In brackets stands its number in the registry, or the length of its check value.
        let combined = matches!(of, Some(CipherMode::Gcm | CipherMode::Ccm));
        let check = check.or_else(|| {
            registered
                .filter(|_| combined)
                .and_then(|(number, _)| tag(number))
                .filter(|_| self.number_of(of, 16, is_camellia) != registered.map(|(number, _)| number))
        });
        let number = self.number_of(of, check.unwrap_or(16), is_camellia).ok_or(UNKNOWN)?;
        if let Some((_, at)) =
            registered.filter(|(said, _)| !numbers(Transform::encryption(number, lengths[0])).contains(said) && tag(*said) != check)
        {
            self.at = at;
            return Err(NOT_UNDERSTOOD);
        }
        lengths.into_iter().try_for_each(|bits| push(&mut self.found.ciphers, Transform::encryption(number, bits)))
    }

    /// The number of a cipher in the registry.
    fn number_of(&self, mode: Option<CipherMode>, check: u16, is_camellia: bool) -> Option<u16> {
        let longer = (check - 8) / 4;
        Some(match (mode.unwrap_or(CipherMode::Cbc), is_camellia) {
            (CipherMode::Cbc, false) => 12,
            (CipherMode::Ctr, false) => 13,
            (CipherMode::Ccm, false) => 14 + longer,
            (CipherMode::Gcm, false) => 18 + longer,
            (CipherMode::Gmac, false) => 21,
            (CipherMode::Cbc, true) => 23,
            (CipherMode::Ctr, true) => 24,
            (CipherMode::Ccm, true) => 25 + longer,
            (CipherMode::Gcm | CipherMode::Gmac, true) => return None,
        })
    }

    fn sha(&mut self) -> Result<(), &'static str> {
        let mut sizes = Vec::new();
        // In brackets stands its number in a registry.
        let is_registered = |number: u16| number < 64 && self.atoms[self.at].bracketed;
        match self.number(0).filter(|number| !is_registered(*number)) {
            Some(1) => {
                self.at += 1;
                self.cut(&[96, 160]);
                return self.hash(2);
            }
            Some(2) => {
                self.at += 1;
                match self.number(0).filter(|size| [256, 384, 512].contains(size)) {
                    Some(size) => {
                        self.at += 1;
                        sizes.push(size);
                    }
                    None => sizes.push(256),
                }
            }
            Some(size @ (256 | 384 | 512)) => {
                self.at += 1;
                sizes.push(size);
            }
            // A number that is of something else.
            Some(_) if self.atoms[self.at].joined => return Err(UNKNOWN),
            _ => return self.hash(2),
        }
        self.cut(&[128, 192, 256]);
        while let Some(more) =
            self.number(0).filter(|size| [256, 384, 512].contains(size) && !matches!(self.word(1), "bit" | "bits" | "aes"))
        {
            self.at += 1;
            sizes.push(more);
        }
        let is_prf = self.is_prf;
        for size in sizes {
            self.is_prf = is_prf;
            self.hash(match size {
                256 => 12,
                384 => 13,
                _ => 14,
            })?;
        }
        Ok(())
    }

    /// The bits to which a hash is cut, where they are joined to it.
    fn cut(&mut self, sizes: &[u16]) {
        if self.atoms.get(self.at).is_some_and(|atom| atom.joined) {
            self.one_of(sizes);
        }
    }

    fn hash(&mut self, number: u16) -> Result<(), &'static str> {
        let hash = Transform::integrity(number);
        if std::mem::take(&mut self.is_prf) {
            return push(&mut self.found.prfs, hash.prf_of_hash().ok_or(UNKNOWN)?);
        }
        push(&mut self.found.hashes, hash)
    }

    fn group(&mut self, number: u16) -> Result<(), &'static str> {
        self.bits = None;
        push(&mut self.found.groups, Transform::key_exchange(number))
    }

    fn modp(&mut self, bits: Option<u16>) -> Result<(), &'static str> {
        let before = self.bits.take().map(|(bits, _)| bits);
        let bits = bits.or(before).map_or_else(
            || {
                let bits = self.number(0);
                self.at += 1;
                bits
            },
            Some,
        );
        let numbers = [(768, 1), (1024, 2), (1536, 5), (2048, 14), (3072, 15), (4096, 16), (6144, 17), (8192, 18)];
        let (_, number) = numbers.iter().find(|(size, _)| Some(*size) == bits).ok_or_else(|| {
            self.at = self.at.saturating_sub(1);
            UNKNOWN
        })?;
        self.group(*number)
    }

    fn curve(&mut self, word: &str) -> Result<(), &'static str> {
        if word == "nist" {
            self.take("p");
        }
        let before = self.bits.take().map(|(bits, _)| bits);
        let bits = before.or_else(|| {
            let bits = self.number(0);
            self.at += usize::from(bits.is_some());
            bits
        });
        self.revision();
        let numbers = [(192, 25), (224, 26), (256, 19), (384, 20), (521, 21)];
        let (_, number) = numbers.iter().find(|(size, _)| Some(*size) == bits).ok_or(UNKNOWN)?;
        self.group(*number)
    }

    /// `r1` or `v1` behind the name of a curve.
    fn revision(&mut self) {
        if matches!(self.word(0), "r" | "v" | "k") && self.number(1) == Some(1) {
            self.at += 2;
        }
    }

    /// Groups by their numbers.
    fn exchange(&mut self) -> Result<(), &'static str> {
        while EXCHANGE.contains(&self.word(0)) || matches!(self.word(0), "no" | "nr" | "number") && self.number(1).is_some() {
            self.at += 1;
        }
        let is_group = |number: u16| Transform::key_exchange(number).row().is_some_and(|row| !row.name.is_empty());
        while let Some(number) = self.number(0).filter(|number| is_group(*number)) {
            if number == 3 && self.word(1) == "des" || matches!(self.word(1), "bit" | "bits") {
                break;
            }
            self.at += 1;
            self.group(number)?;
        }
        Ok(())
    }
}

/// The numbers of an algorithm in the registries of both versions.
fn numbers(one: Transform) -> [u16; 3] {
    let v1 = |for_ike| one.registered_in_v1(for_ike).map_or(one.number, |(_, number)| number);
    [one.number, v1(true), v1(false)]
}

/// The length of a check value in bytes, from bytes or bits.
fn tag(number: u16) -> Option<u16> {
    Some(match number {
        8 | 64 => 8,
        12 | 96 => 12,
        16 | 128 => 16,
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn words(text: &str) -> String {
        match UsualSpelling::read(text) {
            Ok(read) => read.all().map(|one| one.to_string()).collect::<Vec<_>>().join(" "),
            Err((span, why)) => format!("{}: {why}", &text[span.start..span.end]),
        }
    }

    #[test]
    fn what_people_write_is_understood() {
        for (text, expected) in [
            ("AES-128, SHA-1, group 2", "aes-128-cbc sha1 modp-1024"),
            ("AES256-SHA256-MODP2048", "aes-256-cbc sha2-256 modp-2048"),
            ("AES256-SHA256-DH14", "aes-256-cbc sha2-256 modp-2048"),
            ("aes-256-cbc + sha2-256, group modp-2048", "aes-256-cbc sha2-256 modp-2048"),
            ("AES-256-GCM / SHA-384 / DH 20", "aes-256-gcm sha2-384 ecp-384"),
            ("AES-GCM-256, PRF SHA384, ECP384", "aes-256-gcm sha2-384 ecp-384"),
            ("aes256gcm16-prfsha384-ecp384", "aes-256-gcm sha2-384 ecp-384"),
            ("aes128gcm128-x25519", "aes-128-gcm curve25519"),
            ("3DES-SHA1-DH2", "3des-cbc sha1 modp-1024"),
            ("Triple DES, MD5, Group 5", "3des-cbc md5 modp-1536"),
            ("DH group 5, 3DES, SHA", "3des-cbc sha1 modp-1536"),
            ("256-bit AES-CBC, HMAC-SHA-256-128, 2048-bit MODP", "aes-256-cbc sha2-256 modp-2048"),
            ("AES (256 bit) SHA2-512 Group 19 (256-bit ECP)", "aes-256-cbc sha2-512 ecp-256"),
            ("ENCR_AES_GCM_16 (20), 256 bits; PRF_HMAC_SHA2_384 (6); 384-bit random ECP group (20)", "aes-256-gcm sha2-384 ecp-384"),
            ("ENCR_AES_CBC (12), 128 bits; AUTH_HMAC_SHA1_96 (2); group 14", "aes-128-cbc sha1 modp-2048"),
            ("AES 128/256, SHA 256/384, Groups 14, 19, 20", "aes-128-cbc aes-256-cbc sha2-256 sha2-384 modp-2048 ecp-256 ecp-384"),
            ("Encryption: AES-256; Hash: SHA256; DH: 14", "aes-256-cbc sha2-256 modp-2048"),
            ("ChaCha20-Poly1305 with Curve25519", "chacha20-poly1305 curve25519"),
            ("AES-XCBC, camellia256, brainpoolP384r1", "camellia-256-cbc aes-xcbc brainpool-384"),
            ("NIST P-256", "ecp-256"),
            ("secp521r1", "ecp-521"),
            ("prime256v1", "ecp-256"),
            ("dh-group-21", "ecp-521"),
            ("ml-kem-768", "ml-kem-768"),
            ("AES-CBC (7), 128 bits; SHA (2); 1024-bit MODP Group (2)", "aes-128-cbc sha1 modp-1024"),
            ("ESP_AES-CBC (12), 256 bits; HMAC-SHA2-256 (5)", "aes-256-cbc sha2-256"),
            ("NULL, SHA-256", "null sha2-256"),
            ("aes-gcm with 96 bit ICV, 256 bit", "aes-gcm: the length of the key is not said"),
            ("AES, SHA-1", "aes: the length of the key is not said"),
            ("AES-256, SHA-3", "3: no registry has it by that name"),
            ("AES-256, Whirlpool", "Whirlpool: it is not understood"),
            ("AES-256, group 99", "99: it is not understood"),
            ("", ""),
        ] {
            let found = words(text);
            let same = found == expected
                || expected.contains(':') && found.to_lowercase().ends_with(expected.split_once(':').map_or("", |(_, why)| why));
            assert!(same, "{text}: {found}");
        }
    }

    #[test]
    fn one_word_stands_for_one_algorithm() {
        for (kind, text, name) in [
            (Kind::KeyExchange, "group14", "modp-2048"),
            (Kind::KeyExchange, "DH14", "modp-2048"),
            (Kind::KeyExchange, "P-384", "ecp-384"),
            (Kind::Prf, "SHA256", "sha2-256"),
            (Kind::Integrity, "hmac_sha2_512_256", "sha2-512"),
            (Kind::Encryption, "AES256", "aes-256-cbc"),
        ] {
            assert_eq!(usual(kind, text).map(|row| row.name), Some(name), "{text}");
        }
        assert_eq!(usual(Kind::Encryption, "sha256"), None);
        assert_eq!(usual(Kind::Encryption, "aes"), None);
    }

    proptest! {
        /// Each name of ours, and each of the registries, means itself.
        #[test]
        fn names_mean_themselves(kind in 0..4_usize, at in any::<prop::sample::Index>()) {
            let kind = Kind::ALL[kind];
            let rows: Vec<_> = kind.rows().iter().filter(|row| !row.name.is_empty() && !row.name.starts_with("modp-2048-") && !row.name.starts_with("modp-1024-")).collect();
            let row = rows[at.index(rows.len())];
            prop_assert_eq!(usual(kind, row.name), Some(row), "{}", row.name);
            let bits = if row.key_bits == 0 { String::new() } else { format!(", {} bits", row.key_bits) };
            let registered = format!("{} ({}){bits}", row.iana, row.number);
            prop_assert_eq!(usual(kind, &registered), Some(row), "{}", registered);
        }

        #[test]
        fn any_text_is_survived(text in "([a-z]{1,5}|[0-9]{1,5}|[-_ ,;()é]){0,14}") {
            if let Err((span, _)) = UsualSpelling::read(&text) {
                prop_assert!(text.get(span.start..span.end).is_some());
            }
        }
    }
}
