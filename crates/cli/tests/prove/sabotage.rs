//! Pairs that are built and then spoilt.

use crate::suite::{LSW, Pair, SS, orchard, pair};

/// A pair that is built and then spoilt: what is done to which file, and the check that must name it.
pub struct Sabotage {
    pub name: &'static str,
    pub pair: Pair,
    /// File below the output, what is replaced, by what.
    pub edits: &'static [(&'static str, &'static str, &'static str)],
    pub script: Option<(&'static str, &'static str)>,
    pub check: &'static str,
    pub sites: &'static [&'static str],
    pub says: &'static str,
}

const CBC: &str = "ike = [{ encryption = \"aes-256-cbc\", integrity = \"sha2-512\", group = \"ecp-384\" }]\nesp = [{ encryption = \"aes-256-cbc\", integrity = \"sha2-512\" }]";
const PACK_RULES: &str = "packhouse/etc/nftables.d/uspan-harvest.nft";
const COLD_RULES: &str = "coldstore/etc/nftables.d/uspan-harvest.nft";
const COLD: &str = "coldstore/etc/ipsec.d/harvest.conf";
const PACK: &str = "packhouse/etc/swanctl/conf.d/harvest.conf";

#[rustfmt::skip]
pub fn sabotages() -> Vec<Sabotage> {
    let joined = Pair { sites: ["shares-internet = true", "shares-internet = true\nfilter = \"joined\""], ..orchard() };
    let plain = |tunnel| pair([SS, LSW], tunnel);
    let sabotage = |name, edits, check, sites, says| Sabotage { name, pair: plain(CBC), edits, script: None, check, sites, says };
    let only = || Pair { tunnel: "services = [\"https\", \"ping\"]".to_owned(), sites: ["", ""], ..orchard() };
    let same = || Pair {
        networks: ["office = \"10.1.0.0/22\"", "racks = \"10.1.0.0/22\""],
        tunnel: "appears-as = { packhouse = { office = \"10.200.0.0/22\" }, coldstore = { racks = \"10.201.0.0/22\" } }".to_owned(),
        ..orchard()
    };
    let wrapped = |more: &str| Pair { tunnel: format!("carrier = \"gre\"\n{more}"), sites: ["as-number = 65001", "as-number = 65002"], ..orchard() };
    let told = wrapped("routing = \"bgp\"\nlink = \"10.254.0.0/30\"");
    let keys = ["keys = { certificate = \"keys/packhouse.crt\", issuer = \"keys/ca.crt\", private = \"keys/packhouse.key\" }",
        "identity = { name = \"coldstore.example.net\" }\nkeys = { certificate = \"keys/coldstore.crt\", issuer = \"keys/ca.crt\", private = \"keys/coldstore.key\" }"];
    let certified = Pair { tunnel: "authentication = \"certificates\"".to_owned(), sites: keys, ..orchard() };
    let hosts = || Pair { networks: ["", ""], sites: ["", ""], tunnel: "carries = \"gateways\"".to_owned(), ..orchard() };
    let subjects = ["identity = { subject = \"O=Alder Creek Orchards, CN=packhouse.example.net\" }\nkeys = { certificate = \"keys/packhouse.crt\", issuer = \"keys/ca.crt\", private = \"keys/packhouse.key\" }", keys[1]];
    let subject = Pair { tunnel: "authentication = \"certificates\"".to_owned(), sites: subjects, ..orchard() };
    vec![
        Sabotage { name: "another subject than the certificate's", pair: subject, script: None, check: "opens", sites: &["packhouse"], says: "no IKE SA",
            edits: &[(COLD, "CN=packhouse.example.net", "CN=press.example.net")] },
        Sabotage { name: "hosts in clear", pair: hosts(), script: None, check: "silence", sites: &["packhouse"], says: "in clear: 198.51.100.20 to 203.0.113.77",
            edits: &[(PACK_RULES, "ip saddr 198.51.100.20 ip daddr 203.0.113.77 counter drop", "ip saddr 198.51.100.20 ip daddr 203.0.113.77 counter")] },
        Sabotage { name: "tunnel mode between hosts", pair: hosts(), script: None, check: "selectors", sites: &["packhouse", "coldstore"], says: "tunnel mode",
            edits: &[(PACK, "mode = transport", "mode = tunnel"), (COLD, "type=transport", "type=tunnel")] },
        Sabotage { name: "a name that the certificate does not have", pair: certified, script: None, check: "opens", sites: &["packhouse"], says: "IKE SA, but no ESP SA",
            edits: &[(COLD, "leftid=@coldstore.example.net", "leftid=@press.example.net"), (PACK, "fqdn:coldstore.example.net", "fqdn:press.example.net")] },
        Sabotage { name: "GRE in clear", pair: wrapped(""), script: None, check: "silence", sites: &["packhouse"], says: "IP protocol 47",
            edits: &[(PACK_RULES, "meta l4proto gre counter drop", "meta l4proto gre counter")] },
        Sabotage { name: "another system", pair: told.clone(), script: None, check: "learned", sites: &["packhouse", "coldstore"], says: "no route to",
            edits: &[("packhouse/etc/frr/uspan-harvest.conf", "remote-as 65002", "remote-as 65009")] },
        Sabotage { name: "less than is carried", pair: told, script: None, check: "learned", sites: &["packhouse"], says: "no route to 10.73.16.0/20",
            edits: &[("coldstore/etc/frr/uspan-harvest.conf", "uspan-harvest-out seq 5 permit", "uspan-harvest-out seq 5 deny")] },
        sabotage("secret", &[("coldstore/etc/ipsec.d/harvest.secrets", "PSK 0x4b", "PSK 0x4c")], "opens", &["packhouse"], "no IKE SA"),
        sabotage("group", &[(COLD, "ike=aes256-sha2_512;dh20", "ike=aes256-sha2_512;dh19")], "opens", &["packhouse"], "no IKE SA"),
        sabotage("integrity of ESP", &[(COLD, "esp=aes256-sha2_512;dh20", "esp=aes256-sha2_256;dh20")], "opens", &["packhouse"], "IKE SA, but no ESP SA"),
        sabotage("integrity of IKE", &[(PACK, "aes256-sha512-prfsha512", "aes256-sha384-prfsha384")], "opens", &["packhouse"], "no IKE SA"),
        sabotage("identity", &[(COLD, "rightid=198.51.100.20", "rightid=@somebody.example.net"),
            ("coldstore/etc/ipsec.d/harvest.secrets", "198.51.100.20", "@somebody.example.net")], "opens", &["packhouse"], "no IKE SA"),
        sabotage("selector", &[(COLD, "rightsubnet=10.41.0.0/22", "rightsubnet=10.42.0.0/22")], "opens", &["packhouse"], "IKE SA, but no ESP SA"),
        sabotage("crossed selectors", &[(PACK, "local_ts = 10.41.0.0/22\n        remote_ts = 10.73.16.0/20", "local_ts = 10.73.16.0/20\n        remote_ts = 10.41.0.0/22")],
            "opens", &["packhouse"], "IKE SA, but no ESP SA"),
        sabotage("peer's address", &[(PACK, "remote_addrs = 203.0.113.77", "remote_addrs = 203.0.113.78")], "opens", &["packhouse"], "no IKE SA"),
        sabotage("exemption", &[("packhouse/etc/nftables.d/uspan-harvest.nft", "counter snat ip prefix to 10.41.0.0/22", "counter")],
            "ping", &["packhouse"], "no answer"),
        Sabotage { name: "inbound filter", pair: joined.clone(), script: None, check: "ping", sites: &["packhouse"], says: "no answer",
            edits: &[("coldstore/etc/nftables.d/uspan-harvest.chains", "ip saddr 10.41.0.0/22 ip daddr 10.73.16.0/20 meta ipsec exists counter accept\n\tip saddr 10.41.0.0/22 ip daddr 10.73.16.0/20 counter drop", "")] },
        Sabotage { name: "IKE at the filter", pair: joined, script: None, check: "opens", sites: &["packhouse"], says: "no IKE SA",
            edits: &[("coldstore/etc/nftables.d/uspan-harvest.chains", "udp dport { 500, 4500 } counter accept", "udp dport { 501, 4501 } counter accept")] },
        Sabotage { name: "route", pair: plain(CBC), check: "ping", sites: &["packhouse", "coldstore"], says: "", edits: &[],
            script: Some(("packhouse", "ip route add 203.0.113.77 via 198.51.100.21; ip route del default; ip rule add pref 100 to 10.73.16.0/20 unreachable")) },
        sabotage("PFS group", &[(PACK, "esp_proposals = aes256-sha512-ecp384", "esp_proposals = aes256-sha512-ecp256")], "rekey-esp", &["packhouse", "coldstore"], "no new SA"),
        Sabotage { name: "what else takes the interface", pair: Pair { sites: ["style = \"route-based\"", "style = \"route-based\""], ..orchard() },
            script: None, check: "outsiders", sites: &["packhouse", "coldstore"], says: "arrives",
            edits: &[("packhouse/etc/nftables.d/uspan-harvest.nft", "\" counter drop", "\" counter"), ("coldstore/etc/nftables.d/uspan-harvest.nft", "\" counter drop", "\" counter")] },
        Sabotage { name: "route into the tunnel", pair: Pair { sites: ["style = \"route-based\"", ""], ..orchard() },
            script: None, check: "ping", sites: &["packhouse", "coldstore"], says: "",
            edits: &[("packhouse/etc/network/interfaces.d/uspan-harvest", "\tup ip route add 10.73.16.0/20 dev us-harvest metric 10\n", "")] },
        Sabotage { name: "wider selectors", pair: Pair { networks: ["office = \"10.41.0.0/22\", graders = \"10.41.8.0/24\"", "racks = \"10.73.16.0/20\""], tunnel: "carries = [[\"office\", \"racks\"]]".to_owned(), ..orchard() },
            script: None, check: "outsiders", sites: &["packhouse", "coldstore"], says: "arrives",
            edits: &[(COLD, "rightsubnet=10.41.0.0/22", "rightsubnet=10.41.0.0/20"), (PACK, "local_ts = 10.41.0.0/22", "local_ts = 10.41.0.0/20"),
                ("packhouse/etc/nftables.d/uspan-harvest.nft", "10.41.0.0/22", "10.41.0.0/20"), ("coldstore/etc/nftables.d/uspan-harvest.nft", "10.41.0.0/22", "10.41.0.0/20")] },
        sabotage("replay window", &[(PACK, "replay_window = 128", "replay_window = 64")], "selectors", &["packhouse"], "a replay window of 64 packets"),
        sabotage("sequence numbers", &[(PACK, "aes256-sha512-ecp384\n", "aes256-sha512-ecp384-esn\n")], "opens", &["packhouse"], "IKE SA, but no ESP SA"),
        Sabotage { name: "a service at one end", pair: only(), script: None, check: "tcp", sites: &["packhouse", "coldstore"], says: "cannot connect",
            edits: &[(COLD_RULES, "tcp dport 443", "tcp dport 444")] },
        Sabotage { name: "more than the services", pair: only(), script: None, check: "services", sites: &["packhouse", "coldstore"], says: "arrives",
            edits: &[(PACK_RULES, "counter drop", "counter"), (COLD_RULES, "counter drop", "counter")] },
        Sabotage { name: "translation on arrival", pair: same(), script: None, check: "ping", sites: &["coldstore"], says: "no answer",
            edits: &[(PACK_RULES, "counter dnat ip prefix to 10.1.0.0/22", "counter")] },
        Sabotage { name: "translated packets in clear", pair: same(), script: None, check: "silence", sites: &["packhouse"], says: "in clear: 10.200.",
            edits: &[(PACK_RULES, "ip saddr 10.200.0.0/22 ip daddr 10.201.0.0/22 counter drop", "ip saddr 10.200.0.0/22 ip daddr 10.201.0.0/22 counter")] },
    ]
}
