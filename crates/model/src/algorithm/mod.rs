//! Algorithms: the IANA IKEv2 transform registries as data, and the presets.
//!
//! An algorithm is a registry entry (number, and for ciphers the key length), never a spelling.
//! Spellings of platforms are rows in the platforms' own tables.

mod atoms;
mod preset;
mod registry;
mod usual;

pub use preset::{PRESETS, Preset, PresetEsp, PresetIke, preset};
pub use registry::{ENCRYPTION, INTEGRITY, KEY_EXCHANGES, PRFS, SEQUENCE_NUMBERS};
pub use usual::{UsualSpelling, usual};

use std::fmt;

/// How an RFC ranks an algorithm for implementations (RFC 2119 words, as RFC 8221 and RFC 8247 use them).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Status {
    /// Required.
    Must,
    /// Required today, expected to go.
    MustMinus,
    /// Recommended, expected to become required.
    ShouldPlus,
    /// Recommended.
    Should,
    /// Optional.
    May,
    /// Advised against.
    ShouldNot,
    /// Forbidden.
    MustNot,
    /// Not defined for this kind of SA.
    Undefined,
}

impl Status {
    /// From 0 for what is most recommended.
    pub fn rank(self) -> u8 {
        match self {
            Status::Must => 0,
            Status::ShouldPlus => 1,
            Status::Should => 2,
            Status::MustMinus => 3,
            Status::May => 4,
            Status::ShouldNot => 5,
            Status::MustNot => 6,
            Status::Undefined => 7,
        }
    }

    /// The word of the RFCs.
    pub fn word(self) -> &'static str {
        match self {
            Status::Must => "MUST",
            Status::MustMinus => "MUST-",
            Status::ShouldPlus => "SHOULD+",
            Status::Should => "SHOULD",
            Status::May => "MAY",
            Status::ShouldNot => "SHOULD NOT",
            Status::MustNot => "MUST NOT",
            Status::Undefined => "-",
        }
    }
}

/// A transform type (RFC 7296 section 3.3.2, RFC 9370 section 2.2).
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Kind {
    /// Type 1, encryption algorithm.
    Encryption,
    /// Type 2, pseudorandom function.
    Prf,
    /// Type 3, integrity algorithm.
    Integrity,
    /// Type 4, key exchange method.
    KeyExchange,
    /// Type 5, sequence numbers of 32 or 64 bits.
    SequenceNumbers,
    /// Types 6 to 12, additional key exchanges 1 to 7: methods of the registry of type 4.
    AdditionalKeyExchange(u8),
}

impl Kind {
    /// The kinds that descriptions and tables name, in registry order.
    pub const ALL: [Kind; 4] = [Kind::Encryption, Kind::Prf, Kind::Integrity, Kind::KeyExchange];

    /// The word used in descriptions and tables.
    pub fn word(self) -> &'static str {
        match self {
            Kind::Encryption => "encryption",
            Kind::Prf => "prf",
            Kind::Integrity => "integrity",
            Kind::KeyExchange => "group",
            Kind::SequenceNumbers => "sequence numbers",
            Kind::AdditionalKeyExchange(_) => "additional key exchange",
        }
    }

    /// The IANA transform type.
    pub fn number(self) -> u8 {
        match self {
            Kind::Encryption => 1,
            Kind::Prf => 2,
            Kind::Integrity => 3,
            Kind::KeyExchange => 4,
            Kind::SequenceNumbers => 5,
            Kind::AdditionalKeyExchange(which) => 5 + which,
        }
    }

    /// The rows of this kind.
    pub fn rows(self) -> &'static [Row] {
        match self {
            Kind::Encryption => ENCRYPTION,
            Kind::Prf => PRFS,
            Kind::Integrity => INTEGRITY,
            Kind::KeyExchange | Kind::AdditionalKeyExchange(_) => KEY_EXCHANGES,
            Kind::SequenceNumbers => SEQUENCE_NUMBERS,
        }
    }
}

/// What an algorithm adds to a packet of ESP, in bytes (RFC 4303 section 2).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Sizes {
    /// Initialisation vector.
    pub vector: u16,
    /// What the payload is padded to, at least 4.
    pub block: u16,
    /// Integrity check value.
    pub tag: u16,
}

/// The numbers that IKEv1 has for an algorithm, whose registries are closed (RFC 9395).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct InV1 {
    /// In phase 1: encryption algorithm, hash or group (IANA "IKE Attributes"). A hash is integrity and PRF at once.
    pub ike: Option<u16>,
    /// For ESP: transform identifier (IANA "ISAKMP Identifiers"), or the attribute with the authentication algorithm or the group.
    pub esp: Option<u16>,
}

/// One row of the registry.
#[derive(Debug, PartialEq, Eq)]
pub struct Row {
    /// The transform type.
    pub kind: Kind,
    /// IANA transform ID.
    pub number: u16,
    /// Key length attribute in bits; 0 where the algorithm has a fixed key (RFC 7296 section 3.3.5).
    pub key_bits: u16,
    /// Official name in the IANA registry.
    pub iana: &'static str,
    /// Name in descriptions; empty for a code point that descriptions cannot use.
    pub name: &'static str,
    /// Other spellings of the trade that descriptions accept.
    pub also: &'static [&'static str],
    /// Combined mode: the cipher protects integrity itself.
    pub aead: bool,
    /// Security strength in bits (NIST SP 800-57 part 1, table 2, and the defining RFC).
    pub strength: u16,
    /// Status for the IKE SA (RFC 8247).
    pub ike: Status,
    /// Status for ESP (RFC 8221).
    pub esp: Status,
    /// Where it is defined and ranked.
    pub rfc: &'static str,
    /// Why it is weak or withdrawn; empty if it is not.
    pub weak: &'static str,
    /// What it adds to a packet.
    pub sizes: Sizes,
    /// The PRF that is built on the same hash or cipher, of an integrity algorithm.
    pub prf: Option<u16>,
    /// What IKEv1 calls it.
    pub v1: InV1,
}

impl Row {
    /// Whether its keying material fills no whole words of 32 bits: the salt of CCM has three bytes (RFC 4309 section 7.1, RFC 5529).
    pub fn has_odd_key(&self) -> bool {
        self.kind == Kind::Encryption && matches!(self.number, 14..=16 | 25..=27)
    }

    /// Whether IKEv1 can negotiate it, for its own SA or for ESP.
    pub fn is_in_ikev1(&self, for_ike: bool) -> bool {
        if for_ike { self.v1.ike.is_some() } else { self.v1.esp.is_some() }
    }
}

/// A transform (RFC 7296 section 3.3.2): an algorithm by its IANA numbers.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Transform {
    /// The transform type.
    pub kind: Kind,
    /// The transform ID.
    pub number: u16,
    /// Key length attribute in bits; 0 where fixed.
    pub key_bits: u16,
}

impl Transform {
    /// Of a kind whose algorithms have a fixed key.
    pub const fn new(kind: Kind, number: u16) -> Transform {
        Transform { kind, number, key_bits: 0 }
    }

    /// An encryption algorithm, with its key length in bits or 0.
    pub const fn encryption(number: u16, key_bits: u16) -> Transform {
        Transform { kind: Kind::Encryption, number, key_bits }
    }

    /// A pseudorandom function.
    pub const fn prf(number: u16) -> Transform {
        Transform::new(Kind::Prf, number)
    }

    /// An integrity algorithm.
    pub const fn integrity(number: u16) -> Transform {
        Transform::new(Kind::Integrity, number)
    }

    /// A key exchange method.
    pub const fn key_exchange(number: u16) -> Transform {
        Transform::new(Kind::KeyExchange, number)
    }

    /// Sequence numbers of 64 bits (RFC 4303 section 2.2.1), or of 32.
    pub const fn sequence_numbers(extended: bool) -> Transform {
        Transform::new(Kind::SequenceNumbers, extended as u16)
    }

    /// The algorithm of a row.
    pub const fn of(row: &Row) -> Transform {
        Transform { kind: row.kind, number: row.number, key_bits: row.key_bits }
    }

    /// The registry row, if the code point is registered.
    pub fn row(self) -> Option<&'static Row> {
        let rows = self.kind.rows();
        let key = (self.number, self.key_bits);
        rows.binary_search_by_key(&key, |row| (row.number, row.key_bits)).ok().map(|i| &rows[i])
    }

    /// Whether it is a cipher that protects integrity itself.
    pub fn is_aead(self) -> bool {
        self.row().is_some_and(|row| row.aead)
    }

    /// Its name and number in the registries of IKEv1, for its own SA or for ESP; nothing where those do not have it.
    pub fn registered_in_v1(self, for_ike: bool) -> Option<(&'static str, u16)> {
        let row = self.row()?;
        let number = if for_ike { row.v1.ike } else { row.v1.esp }?;
        let name = match (self.kind, for_ike, number) {
            // IANA "IKE Attributes", encryption algorithms and hashes; "ISAKMP Identifiers", IPsec ESP transforms and authentication.
            (Kind::Encryption, true, 1) => "DES-CBC",
            (Kind::Encryption, true, 5) => "3DES-CBC",
            (Kind::Encryption, true, 7) => "AES-CBC",
            (Kind::Encryption, true, 8) => "CAMELLIA-CBC",
            (Kind::Integrity | Kind::Prf, true, 1) => "MD5",
            (Kind::Integrity | Kind::Prf, true, 2) => "SHA",
            (Kind::Integrity | Kind::Prf, true, 4) => "SHA2-256",
            (Kind::Integrity | Kind::Prf, true, 5) => "SHA2-384",
            (Kind::Integrity | Kind::Prf, true, 6) => "SHA2-512",
            (Kind::Encryption, false, 2) => "ESP_DES",
            (Kind::Encryption, false, 3) => "ESP_3DES",
            (Kind::Encryption, false, 11) => "ESP_NULL",
            (Kind::Encryption, false, 12) => "ESP_AES-CBC",
            (Kind::Integrity, false, 1) => "HMAC-MD5",
            (Kind::Integrity, false, 2) => "HMAC-SHA",
            (Kind::Integrity, false, 5) => "HMAC-SHA2-256",
            (Kind::Integrity, false, 6) => "HMAC-SHA2-384",
            (Kind::Integrity, false, 7) => "HMAC-SHA2-512",
            _ => row.iana,
        };
        Some((name, number))
    }

    /// The PRF that is built on the same hash or cipher, where the registry has one.
    pub fn prf_of_hash(self) -> Option<Transform> {
        self.row()?.prf.map(Transform::prf)
    }
}

impl fmt::Display for Transform {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.row() {
            Some(row) if !row.name.is_empty() => f.write_str(row.name),
            Some(row) => f.write_str(row.iana),
            None => write!(f, "{}-{}", self.kind.word(), self.number),
        }
    }
}

impl fmt::Debug for Transform {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

/// What a word in a description can turn out to be.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Lookup {
    /// An algorithm of the wanted kind.
    Found(&'static Row),
    /// A registry name that needs a key length; the rows to choose from share this number.
    NeedsKeyLength(u16),
    /// An algorithm of another kind.
    OtherKind(Kind),
    /// Nothing known.
    Unknown,
}

/// Finds an algorithm by our name, a trade spelling or its IANA name.
///
/// An IANA name that leaves the key length open takes it after a colon: `ENCR_AES_CBC:256`.
pub fn look_up(kind: Kind, word: &str) -> Lookup {
    match find(kind, word) {
        Lookup::Unknown => Kind::ALL
            .into_iter()
            .filter(|other| *other != kind)
            .find(|other| !matches!(find(*other, word), Lookup::Unknown))
            .map_or(Lookup::Unknown, Lookup::OtherKind),
        found => found,
    }
}

fn find(kind: Kind, word: &str) -> Lookup {
    let lower = word.to_lowercase();
    let rows = kind.rows().iter().filter(|row| !row.name.is_empty());
    if let Some(row) = rows.clone().find(|row| row.name == lower || row.also.contains(&lower.as_str())) {
        return Lookup::Found(row);
    }
    let (iana, bits) = match word.rsplit_once(':') {
        Some((name, bits)) => (name, bits.parse::<u16>().ok()),
        None => (word, None),
    };
    let mut same_name = rows.filter(|row| row.iana.eq_ignore_ascii_case(iana));
    let Some(first) = same_name.clone().next() else { return Lookup::Unknown };
    match bits {
        Some(bits) => same_name.find(|row| row.key_bits == bits).map_or(Lookup::NeedsKeyLength(first.number), Lookup::Found),
        None if first.key_bits == 0 => Lookup::Found(first),
        None => Lookup::NeedsKeyLength(first.number),
    }
}

/// Finds an algorithm that the program itself names; for tables and tests.
///
/// # Panics
/// When the registry has no such name.
pub fn named(kind: Kind, name: &str) -> Transform {
    match find(kind, name) {
        Lookup::Found(row) => Transform::of(row),
        _ => panic!("the registry has no {} `{name}`", kind.word()),
    }
}
