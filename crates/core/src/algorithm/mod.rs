//! Algorithms: the IANA IKEv2 transform registries as data, and the presets.
//!
//! An algorithm is a registry entry (number, and for ciphers the key length), never a spelling.
//! Spellings of platforms are rows in the platforms' own tables.

mod ikev1;
mod preset;
mod registry;

pub use ikev1::in_ikev1;
pub use preset::{PRESETS, Preset, PresetEsp, PresetIke, preset};
pub use registry::{CIPHERS, GROUPS, INTEGRITIES, PRFS};

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

/// The four transform types of RFC 7296 section 3.3.2 that carry an algorithm.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Kind {
    /// Transform type 1, encryption.
    Cipher,
    /// Transform type 2, pseudo-random function.
    Prf,
    /// Transform type 3, integrity.
    Integrity,
    /// Transform type 4, key exchange method.
    Group,
}

impl Kind {
    /// All kinds in registry order.
    pub const ALL: [Kind; 4] = [Kind::Cipher, Kind::Prf, Kind::Integrity, Kind::Group];

    /// The word used in descriptions and tables.
    pub fn word(self) -> &'static str {
        match self {
            Kind::Cipher => "encryption",
            Kind::Prf => "prf",
            Kind::Integrity => "integrity",
            Kind::Group => "group",
        }
    }

    /// The rows of this kind.
    pub fn rows(self) -> &'static [Row] {
        match self {
            Kind::Cipher => CIPHERS,
            Kind::Prf => PRFS,
            Kind::Integrity => INTEGRITIES,
            Kind::Group => GROUPS,
        }
    }
}

/// One row of the registry.
#[derive(Debug, PartialEq, Eq)]
pub struct Row {
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
}

/// A cipher with its key length.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Cipher {
    /// IANA transform ID (type 1).
    pub number: u16,
    /// Key length attribute in bits; 0 where fixed.
    pub key_bits: u16,
}

/// A pseudo-random function, by its IANA transform ID (type 2).
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Prf(pub u16);

/// An integrity algorithm, by its IANA transform ID (type 3).
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Integrity(pub u16);

/// A key exchange group, by its IANA transform ID (type 4).
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Group(pub u16);

/// What all algorithms have in common: a registry row, if the code point is registered.
pub trait Algorithm: Copy + Eq + Ord + fmt::Display {
    /// The transform type.
    const KIND: Kind;
    /// The algorithm of a row.
    fn of(row: &Row) -> Self;
    /// Transform ID and key length.
    fn key(self) -> (u16, u16);

    /// The registry row.
    fn row(self) -> Option<&'static Row> {
        let key = self.key();
        let rows = Self::KIND.rows();
        rows.binary_search_by_key(&key, |row| (row.number, row.key_bits)).ok().map(|i| &rows[i])
    }
}

macro_rules! algorithm {
    ($type:ident, $row:ident => $make:expr, $me:ident => $key:expr) => {
        impl Algorithm for $type {
            const KIND: Kind = Kind::$type;
            fn of($row: &Row) -> Self {
                $make
            }
            fn key(self) -> (u16, u16) {
                let $me = self;
                $key
            }
        }
        impl fmt::Display for $type {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                match self.row() {
                    Some(row) if !row.name.is_empty() => f.write_str(row.name),
                    Some(row) => f.write_str(row.iana),
                    None => write!(f, "{}-{}", Self::KIND.word(), self.key().0),
                }
            }
        }
        impl fmt::Debug for $type {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                fmt::Display::fmt(self, f)
            }
        }
    };
}

algorithm!(Cipher, row => Cipher { number: row.number, key_bits: row.key_bits }, c => (c.number, c.key_bits));
algorithm!(Prf, row => Prf(row.number), p => (p.0, 0));
algorithm!(Integrity, row => Integrity(row.number), i => (i.0, 0));
algorithm!(Group, row => Group(row.number), g => (g.0, 0));

impl Cipher {
    /// Whether it protects integrity itself.
    pub fn is_aead(self) -> bool {
        self.row().is_some_and(|row| row.aead)
    }
}

impl Integrity {
    /// The PRF built on the same hash or cipher, where the registry has one.
    pub fn prf(self) -> Option<Prf> {
        Some(Prf(match self.0 {
            1 => 1,
            2 => 2,
            5 => 4,
            8 => 8,
            12 => 5,
            13 => 6,
            14 => 7,
            _ => return None,
        }))
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
pub fn named<A: Algorithm>(name: &str) -> A {
    match find(A::KIND, name) {
        Lookup::Found(row) => A::of(row),
        _ => panic!("the registry has no {} `{name}`", A::KIND.word()),
    }
}
