//! The IANA "Internet Key Exchange Version 2 (IKEv2) Parameters" transform registries.
//!
//! One row a code point; a cipher with several key lengths has a row for each. Sorted by number and
//! key length. `ike` is the status of RFC 8247, `esp` that of RFC 8221; what the RFCs do not mention
//! is MAY. RFC 9395 withdrew what earlier RFCs had left unspecified. A row without a name of ours is
//! a code point that descriptions cannot use; it is known so that foreign files can be named.
//!
//! To add a row: put it in order, run the tests of this file, then give it a spelling in the tables
//! of the platforms that can do it.

use super::Row;
use super::Status::{self, May, Must, MustMinus, MustNot, Should, ShouldNot, ShouldPlus, Undefined};

#[allow(clippy::too_many_arguments, reason = "one argument a column of the tables below")]
const fn row(
    number: u16,
    key_bits: u16,
    iana: &'static str,
    name: &'static str,
    also: &'static [&'static str],
    aead: bool,
    strength: u16,
    ike: Status,
    esp: Status,
    rfc: &'static str,
    weak: &'static str,
) -> Row {
    Row { number, key_bits, iana, name, also, aead, strength, ike, esp, rfc, weak }
}

const BLOCK: bool = false;
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
pub static CIPHERS: &[Row] = &[
    //  no  key  IANA name                     our name                 also                                  mode  strength ike        esp        source             weak
    row( 1,   0, "ENCR_DES_IV64",              "",                      &[],                                  BLOCK,  56, Undefined, MustNot,   "RFC 1827, 9395",  OLD),
    row( 2,   0, "ENCR_DES",                   "des-cbc",               &["des"],                             BLOCK,  56, MustNot,   MustNot,   "RFC 2405, 8247",  DES_BROKEN),
    row( 3,   0, "ENCR_3DES",                  "3des-cbc",              &["3des", "triple-des"],              BLOCK, 112, May,       ShouldNot, "RFC 2451, 8221",  SWEET32),
    row( 4,   0, "ENCR_RC5",                   "",                      &[],                                  BLOCK, 128, MustNot,   MustNot,   "RFC 2451, 9395",  OLD),
    row( 5,   0, "ENCR_IDEA",                  "",                      &[],                                  BLOCK, 128, MustNot,   MustNot,   "RFC 2451, 9395",  OLD),
    row( 6,   0, "ENCR_CAST",                  "",                      &[],                                  BLOCK, 128, MustNot,   MustNot,   "RFC 2451, 9395",  OLD),
    row( 7,   0, "ENCR_BLOWFISH",              "",                      &[],                                  BLOCK, 128, MustNot,   MustNot,   "RFC 2451, 9395",  OLD),
    row( 8,   0, "ENCR_3IDEA",                 "",                      &[],                                  BLOCK, 112, MustNot,   MustNot,   "RFC 2451, 9395",  OLD),
    row( 9,   0, "ENCR_DES_IV32",              "",                      &[],                                  BLOCK,  56, Undefined, MustNot,   "RFC 7296, 9395",  OLD),
    row(11,   0, "ENCR_NULL",                  "null",                  &[],                                  BLOCK,   0, MustNot,   Must,      "RFC 2410, 8221",  "no encryption at all"),
    row(12, 128, "ENCR_AES_CBC",               "aes-128-cbc",           &["aes-128", "aes128", "aes128-cbc"], BLOCK, 128, Must,      Must,      "RFC 3602, 8221",  ""),
    row(12, 192, "ENCR_AES_CBC",               "aes-192-cbc",           &["aes-192", "aes192", "aes192-cbc"], BLOCK, 192, May,       May,       "RFC 3602, 8221",  ""),
    row(12, 256, "ENCR_AES_CBC",               "aes-256-cbc",           &["aes-256", "aes256", "aes256-cbc"], BLOCK, 256, Must,      Must,      "RFC 3602, 8221",  ""),
    row(13, 128, "ENCR_AES_CTR",               "aes-128-ctr",           &["aes128-ctr"],                      BLOCK, 128, May,       May,       "RFC 3686, 5930",  ""),
    row(13, 192, "ENCR_AES_CTR",               "aes-192-ctr",           &["aes192-ctr"],                      BLOCK, 192, May,       May,       "RFC 3686, 5930",  ""),
    row(13, 256, "ENCR_AES_CTR",               "aes-256-ctr",           &["aes256-ctr"],                      BLOCK, 256, May,       May,       "RFC 3686, 5930",  ""),
    row(14, 128, "ENCR_AES_CCM_8",             "aes-128-ccm-8",         &[],                                  AEAD,  128, Should,    Should,    "RFC 4309, 8247",  SHORT_ICV),
    row(14, 192, "ENCR_AES_CCM_8",             "aes-192-ccm-8",         &[],                                  AEAD,  192, May,       May,       "RFC 4309, 8247",  SHORT_ICV),
    row(14, 256, "ENCR_AES_CCM_8",             "aes-256-ccm-8",         &[],                                  AEAD,  256, Should,    Should,    "RFC 4309, 8247",  SHORT_ICV),
    row(15, 128, "ENCR_AES_CCM_12",            "aes-128-ccm-12",        &[],                                  AEAD,  128, May,       May,       "RFC 4309, 5282",  ""),
    row(15, 192, "ENCR_AES_CCM_12",            "aes-192-ccm-12",        &[],                                  AEAD,  192, May,       May,       "RFC 4309, 5282",  ""),
    row(15, 256, "ENCR_AES_CCM_12",            "aes-256-ccm-12",        &[],                                  AEAD,  256, May,       May,       "RFC 4309, 5282",  ""),
    row(16, 128, "ENCR_AES_CCM_16",            "aes-128-ccm",           &["aes128-ccm", "aes-128-ccm-16"],    AEAD,  128, May,       May,       "RFC 4309, 5282",  ""),
    row(16, 192, "ENCR_AES_CCM_16",            "aes-192-ccm",           &["aes192-ccm", "aes-192-ccm-16"],    AEAD,  192, May,       May,       "RFC 4309, 5282",  ""),
    row(16, 256, "ENCR_AES_CCM_16",            "aes-256-ccm",           &["aes256-ccm", "aes-256-ccm-16"],    AEAD,  256, May,       May,       "RFC 4309, 5282",  ""),
    row(18, 128, "ENCR_AES_GCM_8",             "aes-128-gcm-8",         &[],                                  AEAD,  128, May,       May,       "RFC 4106, 5282",  SHORT_ICV),
    row(18, 192, "ENCR_AES_GCM_8",             "aes-192-gcm-8",         &[],                                  AEAD,  192, May,       May,       "RFC 4106, 5282",  SHORT_ICV),
    row(18, 256, "ENCR_AES_GCM_8",             "aes-256-gcm-8",         &[],                                  AEAD,  256, May,       May,       "RFC 4106, 5282",  SHORT_ICV),
    row(19, 128, "ENCR_AES_GCM_12",            "aes-128-gcm-12",        &[],                                  AEAD,  128, May,       May,       "RFC 4106, 5282",  ""),
    row(19, 192, "ENCR_AES_GCM_12",            "aes-192-gcm-12",        &[],                                  AEAD,  192, May,       May,       "RFC 4106, 5282",  ""),
    row(19, 256, "ENCR_AES_GCM_12",            "aes-256-gcm-12",        &[],                                  AEAD,  256, May,       May,       "RFC 4106, 5282",  ""),
    row(20, 128, "ENCR_AES_GCM_16",            "aes-128-gcm",           &["aes128-gcm", "aes-128-gcm-16"],    AEAD,  128, Should,    Must,      "RFC 4106, 8221",  ""),
    row(20, 192, "ENCR_AES_GCM_16",            "aes-192-gcm",           &["aes192-gcm", "aes-192-gcm-16"],    AEAD,  192, May,       May,       "RFC 4106, 8221",  ""),
    row(20, 256, "ENCR_AES_GCM_16",            "aes-256-gcm",           &["aes256-gcm", "aes-256-gcm-16"],    AEAD,  256, Should,    Must,      "RFC 4106, 8221",  ""),
    row(21, 128, "ENCR_NULL_AUTH_AES_GMAC",    "aes-128-gmac",          &[],                                  AEAD,    0, Undefined, May,       "RFC 4543, 8221",  "integrity only, no encryption"),
    row(21, 192, "ENCR_NULL_AUTH_AES_GMAC",    "aes-192-gmac",          &[],                                  AEAD,    0, Undefined, May,       "RFC 4543, 8221",  "integrity only, no encryption"),
    row(21, 256, "ENCR_NULL_AUTH_AES_GMAC",    "aes-256-gmac",          &[],                                  AEAD,    0, Undefined, May,       "RFC 4543, 8221",  "integrity only, no encryption"),
    row(23, 128, "ENCR_CAMELLIA_CBC",          "camellia-128-cbc",      &["camellia-128"],                    BLOCK, 128, May,       May,       "RFC 5529",        ""),
    row(23, 192, "ENCR_CAMELLIA_CBC",          "camellia-192-cbc",      &["camellia-192"],                    BLOCK, 192, May,       May,       "RFC 5529",        ""),
    row(23, 256, "ENCR_CAMELLIA_CBC",          "camellia-256-cbc",      &["camellia-256"],                    BLOCK, 256, May,       May,       "RFC 5529",        ""),
    row(24, 128, "ENCR_CAMELLIA_CTR",          "camellia-128-ctr",      &[],                                  BLOCK, 128, Undefined, May,       "RFC 5529",        ""),
    row(24, 192, "ENCR_CAMELLIA_CTR",          "camellia-192-ctr",      &[],                                  BLOCK, 192, Undefined, May,       "RFC 5529",        ""),
    row(24, 256, "ENCR_CAMELLIA_CTR",          "camellia-256-ctr",      &[],                                  BLOCK, 256, Undefined, May,       "RFC 5529",        ""),
    row(25, 128, "ENCR_CAMELLIA_CCM_8",        "camellia-128-ccm-8",    &[],                                  AEAD,  128, Undefined, May,       "RFC 5529",        SHORT_ICV),
    row(25, 192, "ENCR_CAMELLIA_CCM_8",        "camellia-192-ccm-8",    &[],                                  AEAD,  192, Undefined, May,       "RFC 5529",        SHORT_ICV),
    row(25, 256, "ENCR_CAMELLIA_CCM_8",        "camellia-256-ccm-8",    &[],                                  AEAD,  256, Undefined, May,       "RFC 5529",        SHORT_ICV),
    row(26, 128, "ENCR_CAMELLIA_CCM_12",       "camellia-128-ccm-12",   &[],                                  AEAD,  128, Undefined, May,       "RFC 5529",        ""),
    row(26, 192, "ENCR_CAMELLIA_CCM_12",       "camellia-192-ccm-12",   &[],                                  AEAD,  192, Undefined, May,       "RFC 5529",        ""),
    row(26, 256, "ENCR_CAMELLIA_CCM_12",       "camellia-256-ccm-12",   &[],                                  AEAD,  256, Undefined, May,       "RFC 5529",        ""),
    row(27, 128, "ENCR_CAMELLIA_CCM_16",       "camellia-128-ccm",      &[],                                  AEAD,  128, Undefined, May,       "RFC 5529",        ""),
    row(27, 192, "ENCR_CAMELLIA_CCM_16",       "camellia-192-ccm",      &[],                                  AEAD,  192, Undefined, May,       "RFC 5529",        ""),
    row(27, 256, "ENCR_CAMELLIA_CCM_16",       "camellia-256-ccm",      &[],                                  AEAD,  256, Undefined, May,       "RFC 5529",        ""),
    row(28,   0, "ENCR_CHACHA20_POLY1305",     "chacha20-poly1305",     &["chacha20poly1305", "chacha20"],    AEAD,  256, Should,    Should,    "RFC 7634, 8221",  ""),
    row(29,   0, "ENCR_AES_CCM_8_IIV",         "",                      &[],                                  AEAD,  128, Undefined, May,       "RFC 8750",        NOT_IMPLEMENTED),
    row(30,   0, "ENCR_AES_GCM_16_IIV",        "",                      &[],                                  AEAD,  128, Undefined, May,       "RFC 8750",        NOT_IMPLEMENTED),
    row(31,   0, "ENCR_CHACHA20_POLY1305_IIV", "",                      &[],                                  AEAD,  256, Undefined, May,       "RFC 8750",        NOT_IMPLEMENTED),
    row(32,   0, "ENCR_KUZNYECHIK_MGM_KTREE",  "",                      &[],                                  AEAD,  256, May,       May,       "RFC 9227",        NOT_IMPLEMENTED),
    row(33,   0, "ENCR_MAGMA_MGM_KTREE",       "",                      &[],                                  AEAD,  256, May,       May,       "RFC 9227",        NOT_IMPLEMENTED),
    row(34,   0, "ENCR_KUZNYECHIK_MGM_MAC_KTREE", "",                   &[],                                  AEAD,    0, Undefined, May,       "RFC 9227",        NOT_IMPLEMENTED),
    row(35,   0, "ENCR_MAGMA_MGM_MAC_KTREE",   "",                      &[],                                  AEAD,    0, Undefined, May,       "RFC 9227",        NOT_IMPLEMENTED),
];

/// Transform type 2: pseudo-random functions (IKE SA only).
#[rustfmt::skip]
pub static PRFS: &[Row] = &[
    row(1, 0, "PRF_HMAC_MD5",          "md5",      &["hmac-md5"],                            BLOCK, 128, MustNot,    Undefined, "RFC 2104, 8247", MD5),
    row(2, 0, "PRF_HMAC_SHA1",         "sha1",     &["sha-1", "hmac-sha1"],                  BLOCK, 128, MustMinus,  Undefined, "RFC 2104, 8247", SHA1),
    row(3, 0, "PRF_HMAC_TIGER",        "",         &[],                                      BLOCK, 128, MustNot,    Undefined, "RFC 2104, 9395", OLD),
    row(4, 0, "PRF_AES128_XCBC",       "aes-xcbc", &["aes-128-xcbc"],                        BLOCK, 128, Should,     Undefined, "RFC 4434, 8247", ""),
    row(5, 0, "PRF_HMAC_SHA2_256",     "sha2-256", &["sha256", "sha-256", "hmac-sha2-256"],  BLOCK, 256, Must,       Undefined, "RFC 4868, 8247", ""),
    row(6, 0, "PRF_HMAC_SHA2_384",     "sha2-384", &["sha384", "sha-384", "hmac-sha2-384"],  BLOCK, 384, May,        Undefined, "RFC 4868, 8247", ""),
    row(7, 0, "PRF_HMAC_SHA2_512",     "sha2-512", &["sha512", "sha-512", "hmac-sha2-512"],  BLOCK, 512, ShouldPlus, Undefined, "RFC 4868, 8247", ""),
    row(8, 0, "PRF_AES128_CMAC",       "aes-cmac", &["aes-128-cmac"],                        BLOCK, 128, May,        Undefined, "RFC 4615",       ""),
    row(9, 0, "PRF_HMAC_STREEBOG_512", "",         &[],                                      BLOCK, 256, May,        Undefined, "RFC 9385",       NOT_IMPLEMENTED),
];

/// Transform type 3: integrity.
#[rustfmt::skip]
pub static INTEGRITIES: &[Row] = &[
    row( 0, 0, "NONE",                   "",            &[],                                               BLOCK,   0, Undefined, Must,      "RFC 5282, 8221", "no integrity"),
    row( 1, 0, "AUTH_HMAC_MD5_96",       "md5",         &["hmac-md5"],                                     BLOCK, 128, MustNot,   MustNot,   "RFC 2403, 8247", MD5),
    row( 2, 0, "AUTH_HMAC_SHA1_96",      "sha1",        &["sha-1", "hmac-sha1"],                           BLOCK, 128, MustMinus, MustMinus, "RFC 2404, 8247", SHA1),
    row( 3, 0, "AUTH_DES_MAC",           "",            &[],                                               BLOCK,  56, MustNot,   MustNot,   "RFC 7296, 8247", OLD),
    row( 4, 0, "AUTH_KPDK_MD5",          "",            &[],                                               BLOCK,  64, MustNot,   MustNot,   "RFC 7296, 8247", OLD),
    row( 5, 0, "AUTH_AES_XCBC_96",       "aes-xcbc",    &["aes-128-xcbc"],                                 BLOCK, 128, Should,    Should,    "RFC 3566, 8247", ""),
    row( 6, 0, "AUTH_HMAC_MD5_128",      "",            &[],                                               BLOCK, 128, MustNot,   MustNot,   "RFC 4595, 9395", OLD),
    row( 7, 0, "AUTH_HMAC_SHA1_160",     "",            &[],                                               BLOCK, 128, MustNot,   MustNot,   "RFC 4595, 9395", OLD),
    row( 8, 0, "AUTH_AES_CMAC_96",       "aes-cmac",    &["aes-128-cmac"],                                 BLOCK, 128, May,       May,       "RFC 4494",       ""),
    row( 9, 0, "AUTH_AES_128_GMAC",      "",            &[],                                               BLOCK, 128, Undefined, May,       "RFC 4543, 8221", NOT_IMPLEMENTED),
    row(10, 0, "AUTH_AES_192_GMAC",      "",            &[],                                               BLOCK, 192, Undefined, May,       "RFC 4543, 8221", NOT_IMPLEMENTED),
    row(11, 0, "AUTH_AES_256_GMAC",      "",            &[],                                               BLOCK, 256, Undefined, May,       "RFC 4543, 8221", NOT_IMPLEMENTED),
    row(12, 0, "AUTH_HMAC_SHA2_256_128", "sha2-256",    &["sha256", "sha-256", "hmac-sha2-256"],           BLOCK, 256, Must,      Must,      "RFC 4868, 8247", ""),
    row(13, 0, "AUTH_HMAC_SHA2_384_192", "sha2-384",    &["sha384", "sha-384", "hmac-sha2-384"],           BLOCK, 384, May,       May,       "RFC 4868, 8247", ""),
    row(14, 0, "AUTH_HMAC_SHA2_512_256", "sha2-512",    &["sha512", "sha-512", "hmac-sha2-512"],           BLOCK, 512, Should,    Should,    "RFC 4868, 8247", ""),
];

const SMALL_GROUP: &str = "too small: within reach of a determined attacker (RFC 8247)";
const SUBGROUP: &str = "subgroup of unexplained origin; RFC 8247 advises against it";
const SMALL_CURVE: &str = "below 112 bits of strength";

/// Transform type 4: key exchange methods.
#[rustfmt::skip]
pub static GROUPS: &[Row] = &[
    row( 0, 0, "NONE",                                             "",              &[],                       BLOCK,   0, Undefined, May,       "RFC 7296",       "no key exchange"),
    row( 1, 0, "768-bit MODP Group",                               "modp-768",      &["group-1"],              BLOCK,  60, MustNot,   MustNot,   "RFC 7296, 8247", SMALL_GROUP),
    row( 2, 0, "1024-bit MODP Group",                              "modp-1024",     &["group-2"],              BLOCK,  80, ShouldNot, ShouldNot, "RFC 7296, 8247", SMALL_GROUP),
    row( 5, 0, "1536-bit MODP Group",                              "modp-1536",     &["group-5"],              BLOCK,  90, ShouldNot, ShouldNot, "RFC 3526, 8247", SMALL_GROUP),
    row(14, 0, "2048-bit MODP Group",                              "modp-2048",     &["group-14"],             BLOCK, 112, Must,      Must,      "RFC 3526, 8247", ""),
    row(15, 0, "3072-bit MODP Group",                              "modp-3072",     &["group-15"],             BLOCK, 128, May,       May,       "RFC 3526",       ""),
    row(16, 0, "4096-bit MODP Group",                              "modp-4096",     &["group-16"],             BLOCK, 152, May,       May,       "RFC 3526",       ""),
    row(17, 0, "6144-bit MODP Group",                              "modp-6144",     &["group-17"],             BLOCK, 176, May,       May,       "RFC 3526",       ""),
    row(18, 0, "8192-bit MODP Group",                              "modp-8192",     &["group-18"],             BLOCK, 200, May,       May,       "RFC 3526",       ""),
    row(19, 0, "256-bit random ECP group",                         "ecp-256",       &["group-19", "p-256"],    BLOCK, 128, Should,    Should,    "RFC 5903, 8247", ""),
    row(20, 0, "384-bit random ECP group",                         "ecp-384",       &["group-20", "p-384"],    BLOCK, 192, May,       May,       "RFC 5903",       ""),
    row(21, 0, "521-bit random ECP group",                         "ecp-521",       &["group-21", "p-521"],    BLOCK, 256, May,       May,       "RFC 5903",       ""),
    row(22, 0, "1024-bit MODP Group with 160-bit Prime Order Subgroup", "modp-1024-160", &["group-22"],         BLOCK,  80, MustNot,   MustNot,   "RFC 5114, 8247", SUBGROUP),
    row(23, 0, "2048-bit MODP Group with 224-bit Prime Order Subgroup", "modp-2048-224", &["group-23"],         BLOCK, 112, ShouldNot, ShouldNot, "RFC 5114, 8247", SUBGROUP),
    row(24, 0, "2048-bit MODP Group with 256-bit Prime Order Subgroup", "modp-2048-256", &["group-24"],         BLOCK, 112, ShouldNot, ShouldNot, "RFC 5114, 8247", SUBGROUP),
    row(25, 0, "192-bit Random ECP Group",                         "ecp-192",       &["group-25"],             BLOCK,  96, May,       May,       "RFC 5114",       SMALL_CURVE),
    row(26, 0, "224-bit Random ECP Group",                         "ecp-224",       &["group-26"],             BLOCK, 112, May,       May,       "RFC 5114",       ""),
    row(27, 0, "brainpoolP224r1",                                  "brainpool-224", &["group-27"],             BLOCK, 112, May,       May,       "RFC 6954",       ""),
    row(28, 0, "brainpoolP256r1",                                  "brainpool-256", &["group-28"],             BLOCK, 128, May,       May,       "RFC 6954",       ""),
    row(29, 0, "brainpoolP384r1",                                  "brainpool-384", &["group-29"],             BLOCK, 192, May,       May,       "RFC 6954",       ""),
    row(30, 0, "brainpoolP512r1",                                  "brainpool-512", &["group-30"],             BLOCK, 256, May,       May,       "RFC 6954",       ""),
    row(31, 0, "Curve25519",                                       "curve25519",    &["group-31", "x25519"],   BLOCK, 128, May,       May,       "RFC 8031",       ""),
    row(32, 0, "Curve448",                                         "curve448",      &["group-32", "x448"],     BLOCK, 224, May,       May,       "RFC 8031",       ""),
    row(33, 0, "GOST3410_2012_256",                                "",              &["group-33"],             BLOCK, 128, May,       May,       "RFC 9385",       NOT_IMPLEMENTED),
    row(34, 0, "GOST3410_2012_512",                                "",              &["group-34"],             BLOCK, 256, May,       May,       "RFC 9385",       NOT_IMPLEMENTED),
    row(35, 0, "ml-kem-512",                                       "ml-kem-512",    &["group-35"],             BLOCK, 128, May,       May,       "RFC 9370, IANA", ""),
    row(36, 0, "ml-kem-768",                                       "ml-kem-768",    &["group-36"],             BLOCK, 192, May,       May,       "RFC 9370, IANA", ""),
    row(37, 0, "ml-kem-1024",                                      "ml-kem-1024",   &["group-37"],             BLOCK, 256, May,       May,       "RFC 9370, IANA", ""),
];

#[cfg(test)]
mod tests {
    use super::super::{Algorithm, Cipher, Group, Integrity, Kind, Lookup, Prf, look_up, named};
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
        assert_eq!(look_up(Kind::Cipher, "ENCR_AES_GCM_16"), Lookup::NeedsKeyLength(20));
        assert_eq!(look_up(Kind::Cipher, "ENCR_AES_GCM_16:100"), Lookup::NeedsKeyLength(20));
    }

    #[test]
    fn a_word_of_another_kind_is_told_apart_from_an_unknown_one() {
        assert_eq!(look_up(Kind::Cipher, "sha2-256"), Lookup::OtherKind(Kind::Prf));
        assert_eq!(look_up(Kind::Integrity, "aes-256-gcm"), Lookup::OtherKind(Kind::Cipher));
        assert_eq!(look_up(Kind::Group, "modp-2047"), Lookup::Unknown);
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
        assert_eq!(Group(1030).to_string(), "group-1030");
        assert_eq!(Cipher { number: 32, key_bits: 0 }.to_string(), "ENCR_KUZNYECHIK_MGM_KTREE");
        assert_eq!(named::<Integrity>("sha256").prf(), Some(Prf(5)));
        assert_eq!(named::<Group>("group-14").row().map(|row| row.iana), Some("2048-bit MODP Group"));
    }
}
