//! The IANA "Internet Key Exchange Version 2 (IKEv2) Parameters" transform registries.
//!
//! One row a code point; a cipher with several key lengths has a row for each. Sorted by number and
//! key length. `ike` is the status of RFC 8247, `esp` that of RFC 8221; what the RFCs do not mention
//! is MAY. RFC 9395 withdrew what earlier RFCs had left unspecified. A row without a name of ours is
//! a code point that descriptions cannot use; it is known so that foreign files can be named.
//!
//! To add a row: put it in order, run the tests of this file, then give it a spelling in the tables
//! of the platforms that can do it.

use super::Status::{self, May, Must, MustMinus, MustNot, Should, ShouldNot, ShouldPlus, Undefined};
use super::{InV1, Kind, Row, Sizes};

/// A number of IKEv1; 0 stands for none.
const fn v1(number: u16) -> Option<u16> {
    if number == 0 { None } else { Some(number) }
}

#[allow(clippy::too_many_arguments, reason = "one argument a column of the table below")]
const fn cipher(
    number: u16,
    key_bits: u16,
    iana: &'static str,
    name: &'static str,
    also: &'static [&'static str],
    aead: bool,
    [vector, block, tag]: [u16; 3],
    [v1_ike, v1_esp]: [u16; 2],
    strength: u16,
    ike: Status,
    esp: Status,
    rfc: &'static str,
    weak: &'static str,
) -> Row {
    let (sizes, v1) = (Sizes { vector, block, tag }, InV1 { ike: v1(v1_ike), esp: v1(v1_esp) });
    Row { kind: Kind::Encryption, number, key_bits, iana, name, also, aead, strength, ike, esp, rfc, weak, sizes, prf: None, v1 }
}

#[allow(clippy::too_many_arguments, reason = "one argument a column of the tables below")]
const fn fixed(
    kind: Kind,
    number: u16,
    iana: &'static str,
    name: &'static str,
    also: &'static [&'static str],
    strength: u16,
    ike: Status,
    esp: Status,
    rfc: &'static str,
    weak: &'static str,
    [v1_ike, v1_esp]: [u16; 2],
) -> Row {
    let v1 = InV1 { ike: v1(v1_ike), esp: v1(v1_esp) };
    Row { kind, number, key_bits: 0, iana, name, also, aead: false, strength, ike, esp, rfc, weak, sizes: NO_BYTES, prf: None, v1 }
}

#[allow(clippy::too_many_arguments, reason = "one argument a column of the table below")]
const fn prf(
    number: u16,
    iana: &'static str,
    name: &'static str,
    also: &'static [&'static str],
    strength: u16,
    ike: Status,
    esp: Status,
    rfc: &'static str,
    weak: &'static str,
    v1_hash: u16,
) -> Row {
    fixed(Kind::Prf, number, iana, name, also, strength, ike, esp, rfc, weak, [v1_hash, 0])
}

#[allow(clippy::too_many_arguments, reason = "one argument a column of the table below")]
const fn hash(
    number: u16,
    iana: &'static str,
    name: &'static str,
    also: &'static [&'static str],
    strength: u16,
    ike: Status,
    esp: Status,
    rfc: &'static str,
    weak: &'static str,
    tag: u16,
    prf: u16,
    v1: [u16; 2],
) -> Row {
    let row = fixed(Kind::Integrity, number, iana, name, also, strength, ike, esp, rfc, weak, v1);
    Row { sizes: Sizes { tag, ..NO_BYTES }, prf: if prf == 0 { None } else { Some(prf) }, ..row }
}

#[allow(clippy::too_many_arguments, reason = "one argument a column of the table below")]
const fn group(
    number: u16,
    iana: &'static str,
    name: &'static str,
    also: &'static [&'static str],
    strength: u16,
    ike: Status,
    esp: Status,
    rfc: &'static str,
    weak: &'static str,
    v1: u16,
) -> Row {
    fixed(Kind::KeyExchange, number, iana, name, also, strength, ike, esp, rfc, weak, [v1, v1])
}

const NO_BYTES: Sizes = Sizes { vector: 0, block: 4, tag: 0 };
const PLAIN: bool = false;
const AEAD: bool = true;
const OLD: &str = "withdrawn by RFC 9395";
const DES_BROKEN: &str = "56-bit key, broken; RFC 8221 and RFC 8247 forbid it";
const SWEET32: &str = "64-bit blocks leak after 2^32 of them; RFC 8221 advises against it";
const SHORT_ICV: &str = "64-bit integrity check; RFC 8221 keeps it for tiny devices only";
const MD5: &str = "MD5 is broken; RFC 8221 and RFC 8247 forbid it";
const SHA1: &str = "SHA-1 is on its way out (MUST- in RFC 8221 and RFC 8247)";
const NOT_IMPLEMENTED: &str = "not offered by any platform here";

/// Transform type 1: encryption.
#[rustfmt::skip]
pub static ENCRYPTION: &[Row] = &[
    // Sizes in bytes: vector, block and tag. CBC with blocks of 8 bytes (RFC 2451) and of 16 (RFC 3602, RFC 4312, RFC 5529); counter
    // and combined modes (RFC 3686, RFC 4106, RFC 4309, RFC 4543, RFC 7634, RFC 8750).
    //     no  key  IANA name                     our name                 also                                  mode    sizes        IKEv1  strength ike      esp        source             weak
    cipher( 1,   0, "ENCR_DES_IV64",              "",                      &[],                                  PLAIN, [ 8,  8,  0], [0,  0], 56, Undefined, MustNot,   "RFC 1827, 9395",  OLD),
    cipher( 2,   0, "ENCR_DES",                   "des-cbc",               &["des"],                             PLAIN, [ 8,  8,  0], [1,  2], 56, MustNot,   MustNot,   "RFC 2405, 8247",  DES_BROKEN),
    cipher( 3,   0, "ENCR_3DES",                  "3des-cbc",              &["3des", "triple-des"],              PLAIN, [ 8,  8,  0], [5,  3], 112, May,       ShouldNot, "RFC 2451, 8221",  SWEET32),
    cipher( 4,   0, "ENCR_RC5",                   "",                      &[],                                  PLAIN, [ 8,  8,  0], [0,  0], 128, MustNot,   MustNot,   "RFC 2451, 9395",  OLD),
    cipher( 5,   0, "ENCR_IDEA",                  "",                      &[],                                  PLAIN, [ 8,  8,  0], [0,  0], 128, MustNot,   MustNot,   "RFC 2451, 9395",  OLD),
    cipher( 6,   0, "ENCR_CAST",                  "",                      &[],                                  PLAIN, [ 8,  8,  0], [6,  6], 128, MustNot,   MustNot,   "RFC 2451, 9395",  OLD),
    cipher( 7,   0, "ENCR_BLOWFISH",              "",                      &[],                                  PLAIN, [ 8,  8,  0], [3,  7], 128, MustNot,   MustNot,   "RFC 2451, 9395",  OLD),
    cipher( 8,   0, "ENCR_3IDEA",                 "",                      &[],                                  PLAIN, [ 8,  8,  0], [0,  0], 112, MustNot,   MustNot,   "RFC 2451, 9395",  OLD),
    cipher( 9,   0, "ENCR_DES_IV32",              "",                      &[],                                  PLAIN, [ 8,  8,  0], [0,  0], 56, Undefined, MustNot,   "RFC 7296, 9395",  OLD),
    cipher(11,   0, "ENCR_NULL",                  "null",                  &[],                                  PLAIN, [ 0,  4,  0], [0, 11], 0, MustNot,   Must,      "RFC 2410, 8221",  "no encryption at all"),
    cipher(12, 128, "ENCR_AES_CBC",               "aes-128-cbc",           &["aes-128", "aes128", "aes128-cbc"], PLAIN, [16, 16,  0], [7, 12], 128, Must,      Must,      "RFC 3602, 8221",  ""),
    cipher(12, 192, "ENCR_AES_CBC",               "aes-192-cbc",           &["aes-192", "aes192", "aes192-cbc"], PLAIN, [16, 16,  0], [7, 12], 192, May,       May,       "RFC 3602, 8221",  ""),
    cipher(12, 256, "ENCR_AES_CBC",               "aes-256-cbc",           &["aes-256", "aes256", "aes256-cbc"], PLAIN, [16, 16,  0], [7, 12], 256, Must,      Must,      "RFC 3602, 8221",  ""),
    cipher(13, 128, "ENCR_AES_CTR",               "aes-128-ctr",           &["aes128-ctr"],                      PLAIN, [ 8,  4,  0], [0, 13], 128, May,       May,       "RFC 3686, 5930",  ""),
    cipher(13, 192, "ENCR_AES_CTR",               "aes-192-ctr",           &["aes192-ctr"],                      PLAIN, [ 8,  4,  0], [0, 13], 192, May,       May,       "RFC 3686, 5930",  ""),
    cipher(13, 256, "ENCR_AES_CTR",               "aes-256-ctr",           &["aes256-ctr"],                      PLAIN, [ 8,  4,  0], [0, 13], 256, May,       May,       "RFC 3686, 5930",  ""),
    cipher(14, 128, "ENCR_AES_CCM_8",             "aes-128-ccm-8",         &[],                                  AEAD,  [ 8,  4,  8], [0, 14], 128, Should,    Should,    "RFC 4309, 8247",  SHORT_ICV),
    cipher(14, 192, "ENCR_AES_CCM_8",             "aes-192-ccm-8",         &[],                                  AEAD,  [ 8,  4,  8], [0, 14], 192, May,       May,       "RFC 4309, 8247",  SHORT_ICV),
    cipher(14, 256, "ENCR_AES_CCM_8",             "aes-256-ccm-8",         &[],                                  AEAD,  [ 8,  4,  8], [0, 14], 256, Should,    Should,    "RFC 4309, 8247",  SHORT_ICV),
    cipher(15, 128, "ENCR_AES_CCM_12",            "aes-128-ccm-12",        &[],                                  AEAD,  [ 8,  4, 12], [0, 15], 128, May,       May,       "RFC 4309, 5282",  ""),
    cipher(15, 192, "ENCR_AES_CCM_12",            "aes-192-ccm-12",        &[],                                  AEAD,  [ 8,  4, 12], [0, 15], 192, May,       May,       "RFC 4309, 5282",  ""),
    cipher(15, 256, "ENCR_AES_CCM_12",            "aes-256-ccm-12",        &[],                                  AEAD,  [ 8,  4, 12], [0, 15], 256, May,       May,       "RFC 4309, 5282",  ""),
    cipher(16, 128, "ENCR_AES_CCM_16",            "aes-128-ccm",           &["aes128-ccm", "aes-128-ccm-16"],    AEAD,  [ 8,  4, 16], [0, 16], 128, May,       May,       "RFC 4309, 5282",  ""),
    cipher(16, 192, "ENCR_AES_CCM_16",            "aes-192-ccm",           &["aes192-ccm", "aes-192-ccm-16"],    AEAD,  [ 8,  4, 16], [0, 16], 192, May,       May,       "RFC 4309, 5282",  ""),
    cipher(16, 256, "ENCR_AES_CCM_16",            "aes-256-ccm",           &["aes256-ccm", "aes-256-ccm-16"],    AEAD,  [ 8,  4, 16], [0, 16], 256, May,       May,       "RFC 4309, 5282",  ""),
    cipher(18, 128, "ENCR_AES_GCM_8",             "aes-128-gcm-8",         &[],                                  AEAD,  [ 8,  4,  8], [0, 18], 128, May,       May,       "RFC 4106, 5282",  SHORT_ICV),
    cipher(18, 192, "ENCR_AES_GCM_8",             "aes-192-gcm-8",         &[],                                  AEAD,  [ 8,  4,  8], [0, 18], 192, May,       May,       "RFC 4106, 5282",  SHORT_ICV),
    cipher(18, 256, "ENCR_AES_GCM_8",             "aes-256-gcm-8",         &[],                                  AEAD,  [ 8,  4,  8], [0, 18], 256, May,       May,       "RFC 4106, 5282",  SHORT_ICV),
    cipher(19, 128, "ENCR_AES_GCM_12",            "aes-128-gcm-12",        &[],                                  AEAD,  [ 8,  4, 12], [0, 19], 128, May,       May,       "RFC 4106, 5282",  ""),
    cipher(19, 192, "ENCR_AES_GCM_12",            "aes-192-gcm-12",        &[],                                  AEAD,  [ 8,  4, 12], [0, 19], 192, May,       May,       "RFC 4106, 5282",  ""),
    cipher(19, 256, "ENCR_AES_GCM_12",            "aes-256-gcm-12",        &[],                                  AEAD,  [ 8,  4, 12], [0, 19], 256, May,       May,       "RFC 4106, 5282",  ""),
    cipher(20, 128, "ENCR_AES_GCM_16",            "aes-128-gcm",           &["aes128-gcm", "aes-128-gcm-16"],    AEAD,  [ 8,  4, 16], [0, 20], 128, Should,    Must,      "RFC 4106, 8221",  ""),
    cipher(20, 192, "ENCR_AES_GCM_16",            "aes-192-gcm",           &["aes192-gcm", "aes-192-gcm-16"],    AEAD,  [ 8,  4, 16], [0, 20], 192, May,       May,       "RFC 4106, 8221",  ""),
    cipher(20, 256, "ENCR_AES_GCM_16",            "aes-256-gcm",           &["aes256-gcm", "aes-256-gcm-16"],    AEAD,  [ 8,  4, 16], [0, 20], 256, Should,    Must,      "RFC 4106, 8221",  ""),
    cipher(21, 128, "ENCR_NULL_AUTH_AES_GMAC",    "aes-128-gmac",          &[],                                  AEAD,  [ 8,  4, 16], [0, 23], 0, Undefined, May,       "RFC 4543, 8221",  "integrity only, no encryption"),
    cipher(21, 192, "ENCR_NULL_AUTH_AES_GMAC",    "aes-192-gmac",          &[],                                  AEAD,  [ 8,  4, 16], [0, 23], 0, Undefined, May,       "RFC 4543, 8221",  "integrity only, no encryption"),
    cipher(21, 256, "ENCR_NULL_AUTH_AES_GMAC",    "aes-256-gmac",          &[],                                  AEAD,  [ 8,  4, 16], [0, 23], 0, Undefined, May,       "RFC 4543, 8221",  "integrity only, no encryption"),
    cipher(23, 128, "ENCR_CAMELLIA_CBC",          "camellia-128-cbc",      &["camellia-128"],                    PLAIN, [16, 16,  0], [8, 22], 128, May,       May,       "RFC 5529",        ""),
    cipher(23, 192, "ENCR_CAMELLIA_CBC",          "camellia-192-cbc",      &["camellia-192"],                    PLAIN, [16, 16,  0], [8, 22], 192, May,       May,       "RFC 5529",        ""),
    cipher(23, 256, "ENCR_CAMELLIA_CBC",          "camellia-256-cbc",      &["camellia-256"],                    PLAIN, [16, 16,  0], [8, 22], 256, May,       May,       "RFC 5529",        ""),
    cipher(24, 128, "ENCR_CAMELLIA_CTR",          "camellia-128-ctr",      &[],                                  PLAIN, [ 8,  4,  0], [0,  0], 128, Undefined, May,       "RFC 5529",        ""),
    cipher(24, 192, "ENCR_CAMELLIA_CTR",          "camellia-192-ctr",      &[],                                  PLAIN, [ 8,  4,  0], [0,  0], 192, Undefined, May,       "RFC 5529",        ""),
    cipher(24, 256, "ENCR_CAMELLIA_CTR",          "camellia-256-ctr",      &[],                                  PLAIN, [ 8,  4,  0], [0,  0], 256, Undefined, May,       "RFC 5529",        ""),
    cipher(25, 128, "ENCR_CAMELLIA_CCM_8",        "camellia-128-ccm-8",    &[],                                  AEAD,  [ 8,  4,  8], [0,  0], 128, Undefined, May,       "RFC 5529",        SHORT_ICV),
    cipher(25, 192, "ENCR_CAMELLIA_CCM_8",        "camellia-192-ccm-8",    &[],                                  AEAD,  [ 8,  4,  8], [0,  0], 192, Undefined, May,       "RFC 5529",        SHORT_ICV),
    cipher(25, 256, "ENCR_CAMELLIA_CCM_8",        "camellia-256-ccm-8",    &[],                                  AEAD,  [ 8,  4,  8], [0,  0], 256, Undefined, May,       "RFC 5529",        SHORT_ICV),
    cipher(26, 128, "ENCR_CAMELLIA_CCM_12",       "camellia-128-ccm-12",   &[],                                  AEAD,  [ 8,  4, 12], [0,  0], 128, Undefined, May,       "RFC 5529",        ""),
    cipher(26, 192, "ENCR_CAMELLIA_CCM_12",       "camellia-192-ccm-12",   &[],                                  AEAD,  [ 8,  4, 12], [0,  0], 192, Undefined, May,       "RFC 5529",        ""),
    cipher(26, 256, "ENCR_CAMELLIA_CCM_12",       "camellia-256-ccm-12",   &[],                                  AEAD,  [ 8,  4, 12], [0,  0], 256, Undefined, May,       "RFC 5529",        ""),
    cipher(27, 128, "ENCR_CAMELLIA_CCM_16",       "camellia-128-ccm",      &[],                                  AEAD,  [ 8,  4, 16], [0,  0], 128, Undefined, May,       "RFC 5529",        ""),
    cipher(27, 192, "ENCR_CAMELLIA_CCM_16",       "camellia-192-ccm",      &[],                                  AEAD,  [ 8,  4, 16], [0,  0], 192, Undefined, May,       "RFC 5529",        ""),
    cipher(27, 256, "ENCR_CAMELLIA_CCM_16",       "camellia-256-ccm",      &[],                                  AEAD,  [ 8,  4, 16], [0,  0], 256, Undefined, May,       "RFC 5529",        ""),
    cipher(28,   0, "ENCR_CHACHA20_POLY1305",     "chacha20-poly1305",     &["chacha20poly1305", "chacha20"],    AEAD,  [ 8,  4, 16], [0,  0], 256, Should,    Should,    "RFC 7634, 8221",  ""),
    cipher(29,   0, "ENCR_AES_CCM_8_IIV",         "",                      &[],                                  AEAD,  [ 8,  4, 16], [0,  0], 128, Undefined, May,       "RFC 8750",        NOT_IMPLEMENTED),
    cipher(30,   0, "ENCR_AES_GCM_16_IIV",        "",                      &[],                                  AEAD,  [ 8,  4, 16], [0,  0], 128, Undefined, May,       "RFC 8750",        NOT_IMPLEMENTED),
    cipher(31,   0, "ENCR_CHACHA20_POLY1305_IIV", "",                      &[],                                  AEAD,  [ 8,  4, 16], [0,  0], 256, Undefined, May,       "RFC 8750",        NOT_IMPLEMENTED),
    cipher(32,   0, "ENCR_KUZNYECHIK_MGM_KTREE",  "",                      &[],                                  AEAD,  [ 8,  4, 16], [0,  0], 256, May,       May,       "RFC 9227",        NOT_IMPLEMENTED),
    cipher(33,   0, "ENCR_MAGMA_MGM_KTREE",       "",                      &[],                                  AEAD,  [ 8,  4, 16], [0,  0], 256, May,       May,       "RFC 9227",        NOT_IMPLEMENTED),
    cipher(34,   0, "ENCR_KUZNYECHIK_MGM_MAC_KTREE", "",                   &[],                                  AEAD,  [ 8,  4, 16], [0,  0], 0, Undefined, May,       "RFC 9227",        NOT_IMPLEMENTED),
    cipher(35,   0, "ENCR_MAGMA_MGM_MAC_KTREE",   "",                      &[],                                  AEAD,  [ 8,  4, 16], [0,  0], 0, Undefined, May,       "RFC 9227",        NOT_IMPLEMENTED),
];

/// Transform type 2: pseudo-random functions (IKE SA only).
#[rustfmt::skip]
pub static PRFS: &[Row] = &[
    prf(1, "PRF_HMAC_MD5",          "md5",      &["hmac-md5"],                            128, MustNot,    Undefined, "RFC 2104, 8247", MD5, 1),
    prf(2, "PRF_HMAC_SHA1",         "sha1",     &["sha-1", "hmac-sha1"],                  128, MustMinus,  Undefined, "RFC 2104, 8247", SHA1, 2),
    prf(3, "PRF_HMAC_TIGER",        "",         &[],                                      128, MustNot,    Undefined, "RFC 2104, 9395", OLD, 0),
    prf(4, "PRF_AES128_XCBC",       "aes-xcbc", &["aes-128-xcbc"],                        128, Should,     Undefined, "RFC 4434, 8247", "", 0),
    prf(5, "PRF_HMAC_SHA2_256",     "sha2-256", &["sha256", "sha-256", "hmac-sha2-256"],  256, Must,       Undefined, "RFC 4868, 8247", "", 4),
    prf(6, "PRF_HMAC_SHA2_384",     "sha2-384", &["sha384", "sha-384", "hmac-sha2-384"],  384, May,        Undefined, "RFC 4868, 8247", "", 5),
    prf(7, "PRF_HMAC_SHA2_512",     "sha2-512", &["sha512", "sha-512", "hmac-sha2-512"],  512, ShouldPlus, Undefined, "RFC 4868, 8247", "", 6),
    prf(8, "PRF_AES128_CMAC",       "aes-cmac", &["aes-128-cmac"],                        128, May,        Undefined, "RFC 4615",       "", 0),
    prf(9, "PRF_HMAC_STREEBOG_512", "",         &[],                                      256, May,        Undefined, "RFC 9385",       NOT_IMPLEMENTED, 0),
];

/// Transform type 3: integrity. Behind the reason why it is weak: bytes of the check value (cut to 96 bits in RFC 2403, RFC 2404, RFC 3566
/// and RFC 4494; half of the hash in RFC 4868), the PRF of the same hash, and what IKEv1 calls it.
#[rustfmt::skip]
pub static INTEGRITY: &[Row] = &[
    hash( 0, "NONE",                   "",            &[],                                                 0, Undefined, Must,      "RFC 5282, 8221", "no integrity", 0, 0, [0, 0]),
    hash( 1, "AUTH_HMAC_MD5_96",       "md5",         &["hmac-md5"],                                     128, MustNot,   MustNot,   "RFC 2403, 8247", MD5, 12, 1, [1, 1]),
    hash( 2, "AUTH_HMAC_SHA1_96",      "sha1",        &["sha-1", "hmac-sha1"],                           128, MustMinus, MustMinus, "RFC 2404, 8247", SHA1, 12, 2, [2, 2]),
    hash( 3, "AUTH_DES_MAC",           "",            &[],                                                56, MustNot,   MustNot,   "RFC 7296, 8247", OLD, 8, 0, [0, 0]),
    hash( 4, "AUTH_KPDK_MD5",          "",            &[],                                                64, MustNot,   MustNot,   "RFC 7296, 8247", OLD, 16, 0, [0, 0]),
    hash( 5, "AUTH_AES_XCBC_96",       "aes-xcbc",    &["aes-128-xcbc"],                                 128, Should,    Should,    "RFC 3566, 8247", "", 12, 4, [0, 9]),
    hash( 6, "AUTH_HMAC_MD5_128",      "",            &[],                                               128, MustNot,   MustNot,   "RFC 4595, 9395", OLD, 16, 0, [0, 0]),
    hash( 7, "AUTH_HMAC_SHA1_160",     "",            &[],                                               128, MustNot,   MustNot,   "RFC 4595, 9395", OLD, 20, 0, [0, 0]),
    hash( 8, "AUTH_AES_CMAC_96",       "aes-cmac",    &["aes-128-cmac"],                                 128, May,       May,       "RFC 4494",       "", 12, 8, [0, 0]),
    hash( 9, "AUTH_AES_128_GMAC",      "",            &[],                                               128, Undefined, May,       "RFC 4543, 8221", NOT_IMPLEMENTED, 16, 0, [0, 0]),
    hash(10, "AUTH_AES_192_GMAC",      "",            &[],                                               192, Undefined, May,       "RFC 4543, 8221", NOT_IMPLEMENTED, 16, 0, [0, 0]),
    hash(11, "AUTH_AES_256_GMAC",      "",            &[],                                               256, Undefined, May,       "RFC 4543, 8221", NOT_IMPLEMENTED, 16, 0, [0, 0]),
    hash(12, "AUTH_HMAC_SHA2_256_128", "sha2-256",    &["sha256", "sha-256", "hmac-sha2-256"],           256, Must,      Must,      "RFC 4868, 8247", "", 16, 5, [4, 5]),
    hash(13, "AUTH_HMAC_SHA2_384_192", "sha2-384",    &["sha384", "sha-384", "hmac-sha2-384"],           384, May,       May,       "RFC 4868, 8247", "", 24, 6, [5, 6]),
    hash(14, "AUTH_HMAC_SHA2_512_256", "sha2-512",    &["sha512", "sha-512", "hmac-sha2-512"],           512, Should,    Should,    "RFC 4868, 8247", "", 32, 7, [6, 7]),
];

const SMALL_GROUP: &str = "too small: within reach of a determined attacker (RFC 8247)";
const SUBGROUP: &str = "subgroup of unexplained origin; RFC 8247 advises against it";
const SMALL_CURVE: &str = "below 112 bits of strength";

/// Transform type 4: key exchange methods.
#[rustfmt::skip]
pub static KEY_EXCHANGES: &[Row] = &[
    group( 0, "NONE",                                             "",              &[],                         0, Undefined, May,       "RFC 7296",       "no key exchange", 0),
    group( 1, "768-bit MODP Group",                               "modp-768",      &["group-1"],               60, MustNot,   MustNot,   "RFC 7296, 8247", SMALL_GROUP, 1),
    group( 2, "1024-bit MODP Group",                              "modp-1024",     &["group-2"],               80, ShouldNot, ShouldNot, "RFC 7296, 8247", SMALL_GROUP, 2),
    group( 5, "1536-bit MODP Group",                              "modp-1536",     &["group-5"],               90, ShouldNot, ShouldNot, "RFC 3526, 8247", SMALL_GROUP, 5),
    group(14, "2048-bit MODP Group",                              "modp-2048",     &["group-14"],             112, Must,      Must,      "RFC 3526, 8247", "", 14),
    group(15, "3072-bit MODP Group",                              "modp-3072",     &["group-15"],             128, May,       May,       "RFC 3526",       "", 15),
    group(16, "4096-bit MODP Group",                              "modp-4096",     &["group-16"],             152, May,       May,       "RFC 3526",       "", 16),
    group(17, "6144-bit MODP Group",                              "modp-6144",     &["group-17"],             176, May,       May,       "RFC 3526",       "", 17),
    group(18, "8192-bit MODP Group",                              "modp-8192",     &["group-18"],             200, May,       May,       "RFC 3526",       "", 18),
    group(19, "256-bit random ECP group",                         "ecp-256",       &["group-19", "p-256"],    128, Should,    Should,    "RFC 5903, 8247", "", 19),
    group(20, "384-bit random ECP group",                         "ecp-384",       &["group-20", "p-384"],    192, May,       May,       "RFC 5903",       "", 20),
    group(21, "521-bit random ECP group",                         "ecp-521",       &["group-21", "p-521"],    256, May,       May,       "RFC 5903",       "", 21),
    group(22, "1024-bit MODP Group with 160-bit Prime Order Subgroup", "modp-1024-160", &["group-22"],          80, MustNot,   MustNot,   "RFC 5114, 8247", SUBGROUP, 22),
    group(23, "2048-bit MODP Group with 224-bit Prime Order Subgroup", "modp-2048-224", &["group-23"],         112, ShouldNot, ShouldNot, "RFC 5114, 8247", SUBGROUP, 23),
    group(24, "2048-bit MODP Group with 256-bit Prime Order Subgroup", "modp-2048-256", &["group-24"],         112, ShouldNot, ShouldNot, "RFC 5114, 8247", SUBGROUP, 24),
    group(25, "192-bit Random ECP Group",                         "ecp-192",       &["group-25"],              96, May,       May,       "RFC 5114",       SMALL_CURVE, 25),
    group(26, "224-bit Random ECP Group",                         "ecp-224",       &["group-26"],             112, May,       May,       "RFC 5114",       "", 26),
    group(27, "brainpoolP224r1",                                  "brainpool-224", &["group-27"],             112, May,       May,       "RFC 6954",       "", 27),
    group(28, "brainpoolP256r1",                                  "brainpool-256", &["group-28"],             128, May,       May,       "RFC 6954",       "", 28),
    group(29, "brainpoolP384r1",                                  "brainpool-384", &["group-29"],             192, May,       May,       "RFC 6954",       "", 29),
    group(30, "brainpoolP512r1",                                  "brainpool-512", &["group-30"],             256, May,       May,       "RFC 6954",       "", 30),
    group(31, "Curve25519",                                       "curve25519",    &["group-31", "x25519"],   128, May,       May,       "RFC 8031",       "", 0),
    group(32, "Curve448",                                         "curve448",      &["group-32", "x448"],     224, May,       May,       "RFC 8031",       "", 0),
    group(33, "GOST3410_2012_256",                                "",              &["group-33"],             128, May,       May,       "RFC 9385",       NOT_IMPLEMENTED, 0),
    group(34, "GOST3410_2012_512",                                "",              &["group-34"],             256, May,       May,       "RFC 9385",       NOT_IMPLEMENTED, 0),
    group(35, "ml-kem-512",                                       "ml-kem-512",    &["group-35"],             128, May,       May,       "RFC 9370, IANA", "", 0),
    group(36, "ml-kem-768",                                       "ml-kem-768",    &["group-36"],             192, May,       May,       "RFC 9370, IANA", "", 0),
    group(37, "ml-kem-1024",                                      "ml-kem-1024",   &["group-37"],             256, May,       May,       "RFC 9370, IANA", "", 0),
];

/// Transform type 5: sequence numbers (RFC 9827 renamed the type and its values).
#[rustfmt::skip]
pub static SEQUENCE_NUMBERS: &[Row] = &[
    fixed(Kind::SequenceNumbers, 0, "32-bit Sequential Numbers",                                "32-bit", &[], 128, Undefined, Must,   "RFC 4303, 9827", "", [0, 0]),
    fixed(Kind::SequenceNumbers, 1, "Partially Transmitted 64-bit Sequential Numbers",          "64-bit", &[], 128, Undefined, Should, "RFC 4303, 9827", "", [0, 0]),
];

#[cfg(test)]
mod tests {
    use super::super::{Lookup, Transform, look_up, named};
    use super::*;

    #[test]
    fn rows_are_in_order_and_unique() {
        for kind in Kind::ALL {
            for pair in kind.rows().windows(2) {
                assert!((pair[0].number, pair[0].key_bits) < (pair[1].number, pair[1].key_bits), "{}", pair[1].iana);
            }
        }
    }

    #[test]
    fn every_word_means_one_algorithm_of_its_kind() {
        for kind in Kind::ALL {
            let mut words: Vec<&str> = Vec::new();
            for row in kind.rows().iter().filter(|row| !row.name.is_empty()) {
                assert!(row.name.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-'), "{}", row.name);
                words.push(row.name);
                words.extend(row.also);
            }
            let count = words.len();
            words.sort_unstable();
            words.dedup();
            assert_eq!(words.len(), count, "{}", kind.word());
        }
    }

    #[test]
    fn our_name_and_the_registry_name_find_the_same_row() {
        for kind in Kind::ALL {
            for row in kind.rows().iter().filter(|row| !row.name.is_empty()) {
                assert_eq!(look_up(kind, row.name), Lookup::Found(row));
                let official = if row.key_bits == 0 { row.iana.to_owned() } else { format!("{}:{}", row.iana, row.key_bits) };
                assert_eq!(look_up(kind, &official), Lookup::Found(row));
            }
        }
    }

    #[test]
    fn a_registry_name_without_its_key_length_says_so() {
        assert_eq!(look_up(Kind::Encryption, "ENCR_AES_GCM_16"), Lookup::NeedsKeyLength(20));
        assert_eq!(look_up(Kind::Encryption, "ENCR_AES_GCM_16:100"), Lookup::NeedsKeyLength(20));
    }

    #[test]
    fn a_word_of_another_kind_is_told_apart_from_an_unknown_one() {
        assert_eq!(look_up(Kind::Encryption, "sha2-256"), Lookup::OtherKind(Kind::Prf));
        assert_eq!(look_up(Kind::Integrity, "aes-256-gcm"), Lookup::OtherKind(Kind::Encryption));
        assert_eq!(look_up(Kind::KeyExchange, "modp-2047"), Lookup::Unknown);
    }

    #[test]
    fn what_the_rfcs_forbid_is_weak() {
        for kind in Kind::ALL {
            for row in kind.rows() {
                let forbidden = [row.ike, row.esp].iter().any(|s| matches!(s, MustNot | ShouldNot | MustMinus));
                assert!(!forbidden || !row.weak.is_empty(), "{}", row.iana);
                assert!(row.strength >= 112 || !row.weak.is_empty(), "{}", row.iana);
            }
        }
    }

    #[test]
    fn unknown_code_points_survive() {
        assert_eq!(Transform::key_exchange(1030).to_string(), "group-1030");
        assert_eq!(Transform::encryption(32, 0).to_string(), "ENCR_KUZNYECHIK_MGM_KTREE");
        assert_eq!(named(Kind::Integrity, "sha256").prf_of_hash(), Some(Transform::prf(5)));
        assert_eq!(named(Kind::KeyExchange, "group-14").row().map(|row| row.iana), Some("2048-bit MODP Group"));
    }

    #[test]
    fn a_row_is_of_its_table_and_has_its_bytes() {
        for kind in [Kind::Encryption, Kind::Prf, Kind::Integrity, Kind::KeyExchange, Kind::SequenceNumbers] {
            for row in kind.rows() {
                assert_eq!((row.kind, Transform::of(row).row()), (kind, Some(row)));
                assert!(row.sizes.block >= 4, "{}: ESP pads to 4 bytes (RFC 4303 section 2.4)", row.iana);
                assert_eq!(row.aead, kind == Kind::Encryption && row.sizes.tag > 0, "{}", row.iana);
            }
        }
    }

    #[test]
    fn ikev1_has_combined_modes_for_esp_only_and_none_of_the_newer_ciphers() {
        let gcm = named(Kind::Encryption, "aes-256-gcm").row().expect("registered");
        assert!(!gcm.is_in_ikev1(true) && gcm.is_in_ikev1(false));
        let chacha = named(Kind::Encryption, "chacha20-poly1305").row().expect("registered");
        assert!(!chacha.is_in_ikev1(false), "RFC 7634 defines it for IKEv2 only");
        assert!(!named(Kind::KeyExchange, "curve25519").row().expect("registered").is_in_ikev1(true));
        assert!(named(Kind::KeyExchange, "ecp-384").row().expect("registered").is_in_ikev1(false));
    }
}
