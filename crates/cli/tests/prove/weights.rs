//! Pairs of which one file is changed: what `compare` says of the change must be what the daemons make of it.

use crate::suite::{LSW, OI, Pair, SS, pair};

/// A change, and the pair that it is made to.
pub struct Change {
    pub name: &'static str,
    pub pair: Pair,
    /// File below the output, what is replaced, by what.
    pub edits: &'static [(&'static str, &'static str, &'static str)],
}

const CBC: &str = "ike = [{ encryption = \"aes-256-cbc\", integrity = \"sha2-512\", group = \"ecp-384\" }]\nesp = [{ encryption = \"aes-256-cbc\", integrity = \"sha2-512\" }]";
const PACK_S: &str = "packhouse/etc/swanctl/conf.d/harvest.conf";
const COLD_S: &str = "coldstore/etc/swanctl/conf.d/harvest.conf";
const PACK_L: &str = "packhouse/etc/ipsec.d/harvest.conf";
const COLD_L: &str = "coldstore/etc/ipsec.d/harvest.conf";
const PACK_O: &str = "packhouse/etc/iked.d/harvest.conf";
const COLD_RULES: &str = "coldstore/etc/nftables.d/uspan-harvest.nft";

/// The changes. Each leaves alone what the lab holds against the description itself: windows, the DSCP.
#[rustfmt::skip]
pub fn changes() -> Vec<Change> {
    let sl = |name, edits| Change { name, pair: pair([SS, LSW], CBC), edits };
    let ls = |name, edits| Change { name, pair: pair([LSW, SS], CBC), edits };
    let strong = |name, edits| Change { name, pair: pair([SS, LSW], ""), edits };
    let short = format!("{CBC}\nesp-lifetime = \"10m\"\nike-lifetime = \"30m\"");
    let so = |name, edits| Change { name, pair: pair([OI, SS], &short), edits };
    vec![
        sl("nothing", &[]),
        sl("the hash of IKE", &[(COLD_L, "ike=aes256-sha2_512;dh20", "ike=aes256-sha2_256;dh20")]),
        sl("the group of IKE", &[(PACK_S, "proposals = aes256-sha512-prfsha512-ecp384", "proposals = aes256-sha512-prfsha512-ecp256")]),
        sl("another group first, so that the first guess is wrong", &[(PACK_S, "proposals = aes256-sha512-prfsha512-ecp384", "proposals = aes256-sha512-prfsha512-ecp256-ecp384")]),
        sl("the hash of ESP", &[(COLD_L, "esp=aes256-sha2_512;dh20", "esp=aes256-sha2_256;dh20")]),
        sl("PFS of the one that answers", &[(COLD_L, "pfs=yes", "pfs=no")]),
        ls("PFS of the one that opens", &[(PACK_L, "pfs=yes", "pfs=no")]),
        sl("PFS left out by the one that opens", &[(PACK_S, "esp_proposals = aes256-sha512-ecp384", "esp_proposals = aes256-sha512")]),
        sl("the group of PFS", &[(PACK_S, "esp_proposals = aes256-sha512-ecp384", "esp_proposals = aes256-sha512-ecp256")]),
        sl("transport mode of the one that answers", &[(COLD_L, "type=tunnel", "type=transport")]),
        sl("transport mode of the one that opens", &[(PACK_S, "mode = tunnel", "mode = transport")]),
        ls("transport mode of the one that answers, turned round", &[(COLD_S, "mode = tunnel", "mode = transport")]),
        ls("transport mode of the one that opens, turned round", &[(PACK_L, "type=tunnel", "type=transport")]),
        sl("a network beside", &[(COLD_L, "rightsubnet=10.41.0.0/22", "rightsubnet=10.41.2.0/24")]),
        ls("a network beside, turned round", &[(COLD_S, "remote_ts = 10.41.0.0/22", "remote_ts = 10.41.2.0/24")]),
        sl("who it says it is", &[(COLD_L, "leftid=203.0.113.77", "leftid=@coldstore.example.net")]),
        sl("whom it expects", &[(PACK_S, "id = \"203.0.113.77\"", "id = \"fqdn:coldstore.example.net\"")]),
        sl("the version", &[(COLD_L, "ikev2=insist", "ikev2=no")]),
        sl("the secret", &[("coldstore/etc/ipsec.d/harvest.secrets", "PSK 0x4b", "PSK 0x4c")]),
        sl("lifetimes", &[(COLD_L, "salifetime=3600s", "salifetime=1800s"), (PACK_S, "rekey_time = 28440s", "rekey_time = 14000s")]),
        sl("liveness", &[(COLD_L, "dpddelay=30s", "dpddelay=20s")]),
        strong("the order of ESP proposals", &[(COLD_L, "aes_gcm256;dh20,chacha20_poly1305;dh20,", "chacha20_poly1305;dh20,aes_gcm256;dh20,")]),
        strong("one proposal of several", &[(COLD_L, "ike=aes_gcm256-sha2_384;dh20,aes256-sha2_384;dh20,", "ike=aes256-sha2_384;dh20,")]),
        sl("ESP in UDP by one end", &[(COLD_L, "\tleftid", "\tencapsulation=yes\n\tleftid")]),
        sl("sequence numbers of the one that answers", &[(COLD_L, "esn=no", "esn=yes")]),
        ls("sequence numbers of the one that opens", &[(PACK_L, "esn=no", "esn=yes")]),
        sl("a peer elsewhere", &[(PACK_S, "remote_addrs = 203.0.113.77", "remote_addrs = 203.0.113.78")]),
        sl("an own address that is not said", &[(COLD_L, "\tleft=203.0.113.77", "\tleft=%defaultroute")]),
        sl("a peer anywhere", &[(COLD_L, "\tright=198.51.100.20", "\tright=%any")]),
        sl("an inbound rule", &[(COLD_RULES, "ip saddr 10.41.0.0/22 ip daddr 10.73.16.0/20 meta ipsec exists counter accept\n", "\n")]),
        sl("an outbound rule", &[(COLD_RULES, "ip saddr 10.73.16.0/20 ip daddr 10.41.0.0/22 rt ipsec exists counter accept\n", "\n")]),
        so("the hash of ESP, OpenIKED", &[(PACK_O, "auth hmac-sha2-512 group ecp384 noesn", "auth hmac-sha2-384 group ecp384 noesn")]),
        so("the group of PFS, OpenIKED", &[(PACK_O, "auth hmac-sha2-512 group ecp384 noesn", "auth hmac-sha2-512 group ecp256 noesn")]),
        so("whom it expects, OpenIKED", &[(PACK_O, "dstid \"203.0.113.77\"", "dstid \"coldstore.example.net\"")]),
    ]
}
