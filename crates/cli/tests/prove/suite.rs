//! The descriptions that must come up at the first try, and which of them a run takes.

use std::collections::hash_map::DefaultHasher;
use std::fmt::Write as _;
use std::hash::{Hash as _, Hasher as _};
use std::process::Command;

pub const SS: &str = "strongswan";
pub const LSW: &str = "libreswan";
pub const OI: &str = "openiked";

/// A description to prove.
pub struct Case {
    /// What it shows.
    pub shows: &'static str,
    pub text: String,
}

/// A pair of gateways, to be varied.
#[derive(Clone)]
pub struct Pair {
    pub platforms: [&'static str; 2],
    /// What stands in the gateways' tables beside the interfaces.
    pub addresses: [&'static str; 2],
    pub networks: [&'static str; 2],
    pub sites: [&'static str; 2],
    pub tunnel: String,
}

const PACKHOUSE: &str = "address = \"198.51.100.20\"";

pub fn orchard() -> Pair {
    Pair {
        platforms: [SS, LSW],
        addresses: [PACKHOUSE, "address = \"203.0.113.77\""],
        networks: ["office = \"10.41.0.0/22\"", "racks = \"10.73.16.0/20\""],
        sites: ["shares-internet = true", "shares-internet = true"],
        tunnel: String::new(),
    }
}

impl Pair {
    pub fn text(&self) -> String {
        let mut text = "unified-span = 1\n".to_owned();
        for (i, name) in ["packhouse", "coldstore"].iter().enumerate() {
            let _ = write!(
                text,
                "[site.{name}]\nplatform = \"{}\"\ngateway = {{ {}, outside = \"wan0\", inside = [\"lan0\", \"lan1\"] }}\n\
                 networks = {{ {} }}\n{}\n",
                self.platforms[i], self.addresses[i], self.networks[i], self.sites[i]
            );
        }
        let _ = write!(text, "[tunnel.harvest]\nbetween = [\"packhouse\", \"coldstore\"]\nsecret = {{ file = \"k\" }}\n{}\n", self.tunnel);
        text
    }
}

pub fn pair(platforms: [&'static str; 2], tunnel: &str) -> Pair {
    Pair { platforms, tunnel: tunnel.to_owned(), ..orchard() }
}

/// The ordered pairs of the two that can nearly everything.
const BROAD: [[&str; 2]; 4] = [[SS, LSW], [LSW, SS], [SS, SS], [LSW, LSW]];
/// The ordered pairs with OpenIKED in them.
const WITH_OPENIKED: [[&str; 2]; 5] = [[SS, OI], [OI, SS], [LSW, OI], [OI, LSW], [OI, OI]];

/// Offers: each proposal family, on both platforms.
#[rustfmt::skip]
const OFFERS: &[(&str, &str)] = &[
    ("preset strong", "strength = \"strong\""),
    ("preset brisk", "strength = \"brisk\""),
    ("preset common", "strength = \"common\""),
    ("AES-GCM 256, SHA2-512, ecp-521", r#"ike = [{ encryption = "aes-256-gcm", prf = "sha2-512", group = "ecp-521" }]
       esp = [{ encryption = "aes-256-gcm" }]"#),
    ("AES-GCM 128, curve25519", r#"ike = [{ encryption = "aes-128-gcm", prf = "sha2-256", group = "curve25519" }]
       esp = [{ encryption = "aes-128-gcm" }]"#),
    ("ChaCha20-Poly1305", r#"ike = [{ encryption = "chacha20-poly1305", prf = "sha2-256", group = "curve25519" }]
       esp = [{ encryption = "chacha20-poly1305" }]"#),
    ("AES-CBC 128, SHA2-256, modp-2048", r#"ike = [{ encryption = "aes-128-cbc", integrity = "sha2-256", group = "modp-2048" }]
       esp = [{ encryption = "aes-128-cbc", integrity = "sha2-256" }]
       pfs = "modp-2048""#),
    ("AES-CBC 256, SHA2-512, modp-4096", r#"ike = [{ encryption = "aes-256-cbc", integrity = "sha2-512", group = "modp-4096" }]
       esp = [{ encryption = "aes-256-cbc", integrity = "sha2-512" }]
       pfs = "modp-4096""#),
    ("AES-CBC 192, SHA2-384, no PFS", r#"ike = [{ encryption = "aes-192-cbc", integrity = "sha2-384", group = "ecp-384" }]
       esp = [{ encryption = "aes-192-cbc", integrity = "sha2-384" }]
       pfs = false"#),
    ("AES-CTR 256, modp-3072", r#"ike = [{ encryption = "aes-256-ctr", integrity = "sha2-256", group = "modp-3072" }]
       esp = [{ encryption = "aes-256-ctr", integrity = "sha2-256" }]"#),
    ("AES-CCM 256", r#"ike = [{ encryption = "aes-256-gcm", prf = "sha2-256", group = "curve25519" }]
       esp = [{ encryption = "aes-256-ccm" }]
       pfs = "curve25519""#),
    ("Camellia-CBC 256", r#"esp = [{ encryption = "camellia-256-cbc", integrity = "sha2-256" }]"#),
];

/// What else a description can say of a tunnel and its sites.
#[rustfmt::skip]
const VARIETIES: &[(&str, &str, [&str; 2], [&str; 2])] = &[
    // What it shows; the tunnel; the sites; their networks.
    ("the second site opens", "opened-by = \"coldstore\"", ["shares-internet = true", ""], ["office = \"10.41.0.0/22\"", "racks = \"10.73.16.0/20\""]),
    ("either site opens", "opened-by = \"either\"", ["", ""], ["office = \"10.41.0.0/22\", graders = \"10.41.8.0/24\"", "racks = \"10.73.16.0/20\""]),
    ("either site opens with the first packet, chains in a filter", "opened-by = \"either\"\nopens = \"on-traffic\"", ["filter = \"joined\"", "filter = \"joined\"\nshares-internet = true"],
        ["office = \"10.41.0.0/22\"", "racks = \"10.73.16.0/20\", dock = \"10.73.32.0/24\""]),
    ("identities by DNS name and by mail, liveness", "opened-by = \"packhouse\"\nopens = \"on-traffic\"\nliveness = \"10s\"", ["identity = { name = \"packhouse.example.net\" }", "identity = { mail = \"gate@coldstore.example.net\" }"],
        ["office = \"10.41.0.0/22\"", "racks = \"10.73.16.0/20\""]),
    ("by hand, free identities, no liveness", "opens = \"by-hand\"\nliveness = \"off\"", ["identity = { free = \"orchard-gate-7\" }", "identity = { free = \"cold/gate:1\" }"],
        ["office = \"10.41.0.0/22\"", "racks = \"10.73.16.0/20\""]),
    ("mail and DNS identities, short lifetimes", "esp-lifetime = \"5m\"\nike-lifetime = \"15m\"", ["identity = { mail = \"gate+7@packhouse.example.net\" }\nfilter = \"joined\"\nshares-internet = true", "identity = { name = \"coldstore.example.net\" }\nshares-internet = true"],
        ["office = \"10.41.0.0/22\", graders = \"10.41.8.0/24\"", "racks = \"10.73.16.0/20\", dock = \"10.73.32.0/24\""]),
    ("chosen pairs of networks", "carries = [[\"office\", \"racks\"], [\"graders\", \"dock\"]]", ["shares-internet = true", "shares-internet = true\nfilter = \"joined\""],
        ["office = \"10.41.0.0/22\", graders = \"10.41.8.0/24\"", "racks = \"10.73.16.0/20\", dock = \"10.73.32.0/24\""]),
    ("single hosts, no PFS", "pfs = false\nliveness = \"off\"", ["identity = { address = \"198.51.100.20\" }", "shares-internet = true"],
        ["server = \"10.41.0.7/32\", pair = \"10.41.1.8/31\"", "racks = \"10.73.16.0/30\""]),
];

/// IPv6, outside and inside.
fn six() -> Pair {
    Pair {
        addresses: ["address = \"2001:db8:1::20\"", "address = \"2001:db8:2::77\""],
        networks: ["office = \"2001:db8:41::/64\"", "racks = \"2001:db8:73::/64\", dock = \"fd73:16::/48\""],
        sites: ["shares-internet = true", "filter = \"joined\""],
        ..orchard()
    }
}

/// Two networks at each site.
const TWO: [&str; 2] = ["office = \"10.41.0.0/22\", graders = \"10.41.8.0/24\"", "racks = \"10.73.16.0/20\", dock = \"10.73.32.0/24\""];

/// For OpenIKED, of which only the timers rekey.
fn short(tunnel: &str) -> String {
    format!("esp-lifetime = \"10m\"\nike-lifetime = \"30m\"\n{tunnel}")
}

/// All of them.
pub fn all() -> Vec<Case> {
    let mut cases = Vec::new();
    let mut add = |shows, pair: Pair| cases.push(Case { shows, text: pair.text() });
    for platforms in BROAD {
        for (shows, offer) in OFFERS {
            add(shows, pair(platforms, offer));
        }
        for (shows, tunnel, sites, networks) in VARIETIES {
            add(shows, Pair { platforms, tunnel: (*tunnel).to_owned(), sites: *sites, networks: *networks, ..orchard() });
        }
        add("IPv6", Pair { platforms, ..six() });
        add("IPv6, with the first packet", Pair { platforms, tunnel: "opens = \"on-traffic\"".to_owned(), ..six() });
    }
    // A group of its own for every rekey of ESP, between two that can.
    add("PFS with a group of its own", pair([SS, SS], "pfs = \"ecp-521\""));
    for platforms in WITH_OPENIKED {
        let sites = ["identity = { name = \"packhouse.example.net\" }\nfilter = \"joined\"", "shares-internet = true"];
        add("preset strong, chains in a filter", Pair { platforms, sites, tunnel: short(""), ..orchard() });
        add("preset brisk, the second site opens", pair(platforms, &short("strength = \"brisk\"\nopened-by = \"coldstore\"")));
        let networks = ["office = \"2001:db8:41::/64\"", "racks = \"fd73:16::/48\""];
        let tunnel = short("strength = \"common\"\npfs = false\nliveness = \"10s\"");
        add("preset common, IPv6, no PFS", Pair { platforms, tunnel, networks, ..six() });
        // Several pairs of networks in the one Child SA that it has, where the other has that too.
        if !platforms.contains(&LSW) {
            let tunnel = short("pfs = \"ecp-521\"");
            add("two networks in one Child SA, PFS with a group of its own", Pair { platforms, networks: TWO, tunnel, ..orchard() });
        }
    }
    for platforms in BROAD.into_iter().chain(WITH_OPENIKED) {
        let at = |first| [first, orchard().addresses[1]];
        let behind = at("address = \"198.51.100.20\", own-address = \"10.99.0.2\"");
        let sites =
            ["identity = { name = \"packhouse.example.net\" }\nshares-internet = true", "filter = \"joined\"\nshares-internet = true"];
        let tunnel = short("");
        add("behind a NAT device", Pair { platforms, sites, addresses: behind, tunnel: tunnel.clone(), ..orchard() });
        let answers = short("opened-by = \"coldstore\"");
        add("behind a NAT device that forwards, answering", Pair { platforms, sites, addresses: behind, tunnel: answers, ..orchard() });
        add(
            "a peer by DNS name",
            Pair { platforms, addresses: at("address = \"gate.packhouse.example.net\""), tunnel: tunnel.clone(), ..orchard() },
        );
        add("a dynamic address", Pair { platforms, sites, addresses: at("address = \"dynamic\""), tunnel, ..orchard() });
        if platforms != [OI, OI] {
            add("NAT traversal forced", pair(platforms, &short("nat-traversal = \"forced\"")));
        }
        if platforms.contains(&LSW) {
            add("NAT traversal off", pair(platforms, &short("nat-traversal = \"off\"")));
        }
    }
    for platforms in BROAD {
        let v1 = "version = \"ikev1\"\nesp-lifetime = \"10m\"\nike-lifetime = \"30m\"\n";
        // Several pairs only where the opener comes back from a dead peer.
        let networks = if platforms[0] == SS { TWO } else { orchard().networks };
        add("IKEv1, main mode", Pair { platforms, networks, tunnel: format!("{v1}strength = \"common\""), ..orchard() });
        let old = "aggressive = \"nothing else there\"\nopens = \"on-traffic\"\nallows-weak = { \"sha1\" = \"nothing else there\", \"3des-cbc\" = \"nothing else there\", \"modp-1536\" = \"nothing else there\" }\n\
                   ike = [{ encryption = \"3des-cbc\", integrity = \"sha1\", group = \"modp-1536\" }]\nesp = [{ encryption = \"3des-cbc\", integrity = \"sha1\" }]";
        let sites = ["identity = { name = \"packhouse.example.net\" }\nshares-internet = true", "identity = { free = \"cold gate\" }"];
        add("IKEv1, aggressive mode, withdrawn algorithms", Pair { platforms, sites, tunnel: format!("{v1}{old}"), ..orchard() });
        let tunnel = format!("{v1}strength = \"common\"\nliveness = \"10s\"\nopened-by = \"coldstore\"");
        add("IKEv1, IPv6, the second site opens", Pair { platforms, tunnel, ..six() });
    }
    // The exemption before the administrator's masquerading, and a filter of either form, in iptables' words.
    for platforms in BROAD.into_iter().chain(WITH_OPENIKED) {
        let sites = [
            "packet-filter = \"iptables\"\nshares-internet = true",
            "packet-filter = \"iptables\"\nfilter = \"joined\"\nshares-internet = true",
        ];
        add("iptables", Pair { platforms, sites, tunnel: short(""), ..orchard() });
    }
    for platforms in BROAD {
        let sites = ["packet-filter = \"iptables\"\nfilter = \"joined\"", "packet-filter = \"iptables\""];
        add("iptables, IPv6", Pair { platforms, sites, ..six() });
    }
    const ROUTES: &str = "style = \"route-based\"";
    const ROUTES_JOINED: &str = "style = \"route-based\"\nfilter = \"joined\"\nshares-internet = true";
    const ROUTES_IPTABLES: &str = "style = \"route-based\"\npacket-filter = \"iptables\"\nshares-internet = true";
    for platforms in BROAD {
        let tunnel = |words: &str| words.to_owned();
        add("route-based at both ends", Pair { platforms, sites: [ROUTES, ROUTES_JOINED], networks: TWO, ..orchard() });
        add("route-based and policy-based", Pair { platforms, sites: [ROUTES_JOINED, ""], networks: TWO, ..orchard() });
        add("policy-based and route-based", Pair { platforms, sites: ["", ROUTES], ..orchard() });
        let numbered = tunnel("link = \"10.255.0.0/31\"\nopens = \"on-traffic\"\nopened-by = \"either\"\npath-mtu = 1492");
        add(
            "route-based, numbered, iptables",
            Pair { platforms, sites: [ROUTES_IPTABLES, ROUTES_IPTABLES], tunnel: numbered, ..orchard() },
        );
        let numbered = tunnel("link = \"fd00:ff::/127\"");
        add("route-based, IPv6, numbered", Pair { platforms, sites: [ROUTES, ROUTES], tunnel: numbered, ..six() });
        add("IPv6 networks over IPv4 gateways", Pair { addresses: orchard().addresses, platforms, sites: [ROUTES, ROUTES], ..six() });
        let behind = ["address = \"198.51.100.20\", own-address = \"10.99.0.2\"", orchard().addresses[1]];
        let sites = ["style = \"route-based\"\nidentity = { name = \"packhouse.example.net\" }", "shares-internet = true"];
        add("route-based behind a NAT device", Pair { platforms, addresses: behind, sites, ..orchard() });
        let v1 = format!("version = \"ikev1\"\nstrength = \"common\"\n{}", short(""));
        add("route-based, IKEv1", Pair { platforms, sites: [ROUTES, ROUTES], tunnel: v1, ..orchard() });
    }
    for platforms in WITH_OPENIKED.into_iter().filter(|platforms| *platforms != [OI, OI]) {
        let sites = platforms.map(|platform| if platform == OI { "" } else { ROUTES });
        add("route-based against OpenIKED", Pair { platforms, sites, tunnel: short(""), ..orchard() });
    }
    cases.push(Case { shows: "a gateway with two tunnels, over three daemons", text: STAR.to_owned() });
    cases
}

/// The part that this run proves: all with USPAN_LAB=all, else a part that follows from the commit, so that another
/// commit proves another part and the same commit the same.
pub fn part() -> Vec<Case> {
    const PART: usize = 44;
    let mut cases = all();
    if std::env::var_os("USPAN_LAB").is_some_and(|wanted| wanted == "all") {
        return cases;
    }
    let commit = Command::new("git").args(["rev-parse", "HEAD"]).output().map(|output| output.stdout).unwrap_or_default();
    let draw = |case: &Case| {
        let mut hasher = DefaultHasher::new();
        (&commit, &case.text).hash(&mut hasher);
        hasher.finish()
    };
    cases.sort_by_cached_key(draw);
    // The star, and then whatever was drawn.
    let star = cases.iter().position(|case| case.text == STAR).unwrap_or(0);
    let star = cases.remove(star);
    cases.insert(0, star);
    cases.truncate(PART);
    cases
}

/// A gateway with two tunnels, over three daemons.
const STAR: &str = r#"unified-span = 1
[site.packhouse]
platform = "strongswan"
gateway = { address = "198.51.100.20", outside = "wan0", inside = "lan0" }
networks = { office = "10.41.0.0/22" }
shares-internet = true
[site.coldstore]
platform = "libreswan"
gateway = { address = "203.0.113.77", outside = "eth0", inside = "eth1" }
networks = { racks = "10.73.16.0/20" }
shares-internet = true
[site.press]
platform = "openiked"
gateway = { address = "203.0.113.90", outside = "eth0", inside = "eth1" }
networks = { hall = "10.90.0.0/24" }
[tunnel.harvest]
between = ["packhouse", "coldstore"]
secret = { file = "k" }
[tunnel.juice]
between = ["press", "packhouse"]
secret = { file = "k2" }
esp-lifetime = "10m"
ike-lifetime = "30m"
"#;
