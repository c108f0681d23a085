//! The descriptions that must come up at the first try, and which of them a run takes.

use crate::known;
use std::collections::hash_map::DefaultHasher;
use std::fmt::Write as _;
use std::hash::{Hash, Hasher as _};
use std::process::Command;

use uspan_core::{Certificate, Description, KeyFile, PublicKey, Secret, SecretFile, Severity, Source, Supplied, build};

use crate::common::{SECRET, certificates as certificates_of};
use crate::stars::{STARS, variants};

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
            // Behind a host is nothing.
            let (inside, networks) = match self.networks[i] {
                "" => ("", String::new()),
                some => (", inside = [\"lan0\", \"lan1\"]", format!("networks = {{ {some} }}\n")),
            };
            let gateway = format!("{{ {}, outside = \"wan0\"{inside} }}", self.addresses[i]);
            let _ = writeln!(text, "[site.{name}]\nplatform = \"{}\"\ngateway = {gateway}\n{networks}{}", self.platforms[i], self.sites[i]);
        }
        let secret = if self.tunnel.contains("authentication") { "" } else { "secret = { file = \"k\" }\n" };
        let _ = write!(text, "[tunnel.harvest]\nbetween = [\"packhouse\", \"coldstore\"]\n{secret}{}\n", self.tunnel);
        text
    }
}

pub fn pair(platforms: [&'static str; 2], tunnel: &str) -> Pair {
    Pair { platforms, tunnel: tunnel.to_owned(), ..orchard() }
}

/// All ordered pairs of platforms.
pub fn ordered_pairs() -> Vec<[&'static str; 2]> {
    let all = [SS, LSW, OI];
    all.into_iter().flat_map(|first| all.map(|second| [first, second])).collect()
}

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

/// One proposal with several values of each kind, of which some platforms cannot do all.
const LISTS: &str = r#"ike = [{ encryption = ["aes-256-gcm", "aes-256-cbc", "aes-128-cbc"], integrity = ["sha2-256", "sha2-512"], group = ["ecp-384", "curve448", "modp-2048"] }]
       esp = [{ encryption = ["aes-256-cbc", "aes-256-gcm", "chacha20-poly1305"], integrity = ["sha2-256", "sha2-512"] }]"#;

/// What else a description can say of a tunnel and its sites.
#[rustfmt::skip]
const VARIETIES: &[(&str, &str, [&str; 2], [&str; 2])] = &[
    // What it shows; the tunnel; the sites; their networks.
    ("the second site opens", "initiator = \"coldstore\"", ["shares-internet = true", ""], ["office = \"10.41.0.0/22\"", "racks = \"10.73.16.0/20\""]),
    ("either site opens", "initiator = \"either\"", ["", ""], ["office = \"10.41.0.0/22\", graders = \"10.41.8.0/24\"", "racks = \"10.73.16.0/20\""]),
    ("either site opens with the first packet, chains in a filter", "initiator = \"either\"\nopens = \"on-traffic\"", ["filter = \"joined\"", "filter = \"joined\"\nshares-internet = true"],
        ["office = \"10.41.0.0/22\"", "racks = \"10.73.16.0/20\", dock = \"10.73.32.0/24\""]),
    ("identities by DNS name and by mail, liveness", "initiator = \"packhouse\"\nopens = \"on-traffic\"\nliveness = \"10s\"", ["identity = { name = \"packhouse.example.net\" }", "identity = { mail = \"gate@coldstore.example.net\" }"],
        ["office = \"10.41.0.0/22\"", "racks = \"10.73.16.0/20\""]),
    ("by hand, free identities, no liveness", "opens = \"by-hand\"\nliveness = \"off\"", ["identity = { free = \"orchard-gate-7\" }", "identity = { free = \"cold/gate:1\" }"],
        ["office = \"10.41.0.0/22\"", "racks = \"10.73.16.0/20\""]),
    ("mail and DNS identities, short lifetimes", "esp-lifetime = \"5m\"\nike-lifetime = \"15m\"", ["identity = { mail = \"gate+7@packhouse.example.net\" }\nfilter = \"joined\"\nshares-internet = true", "identity = { name = \"coldstore.example.net\" }\nshares-internet = true"],
        ["office = \"10.41.0.0/22\", graders = \"10.41.8.0/24\"", "racks = \"10.73.16.0/20\", dock = \"10.73.32.0/24\""]),
    ("chosen pairs of networks", "carries = [[\"office\", \"racks\"], [\"graders\", \"dock\"]]", ["shares-internet = true", "shares-internet = true\nfilter = \"joined\""],
        ["office = \"10.41.0.0/22\", graders = \"10.41.8.0/24\"", "racks = \"10.73.16.0/20\", dock = \"10.73.32.0/24\""]),
    ("subjects as identities, a shared secret", "", ["identity = { subject = \"O=Alder Creek Orchards, CN=packhouse\" }", "identity = { subject = \"C=US, O=Alder Creek Orchards, CN=coldstore.example.net\" }"],
        ["office = \"10.41.0.0/22\"", "racks = \"10.73.16.0/20\""]),
    // The kernel asks a daemon for one SA to a host at a time, where these two meet.
    ("a host and a network, with the first packet", "initiator = \"packhouse\"\nopens = \"on-traffic\"", ["shares-internet = true", ""],
        ["attic = \"10.200.0.0/32\", annex = \"10.101.160.0/20\"", "vault = \"10.140.104.0/22\""]),
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

/// One IPv6 network at each site.
const SIX_ONE: [&str; 2] = ["office = \"2001:db8:41::/64\"", "racks = \"fd73:16::/48\""];

/// Two networks at each site.
const TWO: [&str; 2] = ["office = \"10.41.0.0/22\", graders = \"10.41.8.0/24\"", "racks = \"10.73.16.0/20\", dock = \"10.73.32.0/24\""];

/// Short lives, where only the daemons' timers rekey.
fn short(tunnel: &str) -> String {
    if tunnel.contains("-lifetime") { tunnel.to_owned() } else { format!("esp-lifetime = \"10m\"\nike-lifetime = \"30m\"\n{tunnel}") }
}

/// Everything that a description can ask of a pair of platforms, each in a description of its own.
fn capabilities(platforms: [&'static str; 2]) -> Vec<(&'static str, Pair)> {
    let mut all = Vec::new();
    let mut add = |shows: &'static str, pair: Pair| all.push((shows, Pair { platforms, ..pair }));
    let tunnel = |words: &str| Pair { tunnel: words.to_owned(), ..orchard() };
    for (shows, offer) in OFFERS {
        add(shows, tunnel(offer));
    }
    add("lists of values", tunnel(LISTS));
    add("lists of values, IKEv1", tunnel(&format!("version = \"ikev1\"\n{}", LISTS.replace("ecp-384", "modp-3072"))));
    add("a curve for PFS, IKEv1", tunnel(&format!("version = \"ikev1\"\n{LISTS}")));
    add("PFS with a group of its own", tunnel("pfs = \"ecp-521\""));
    for (shows, words, sites, networks) in VARIETIES {
        add(shows, Pair { sites: *sites, networks: *networks, ..tunnel(words) });
    }
    add("IPv6", six());
    add("IPv6, with the first packet", Pair { tunnel: "opens = \"on-traffic\"".to_owned(), ..six() });
    // The others cannot.
    if platforms == [SS, SS] {
        let sites = ["shares-internet = true", "filter = \"joined\""];
        add("IPv4 networks over IPv6 gateways, policy-based", Pair { addresses: six().addresses, sites, ..orchard() });
    }
    addresses(&mut add);
    ikev1(&mut add);
    packet_filters(&mut add);
    route_based(&mut add, platforms);
    gre(&mut add);
    hosts(&mut add);
    bgp(&mut add, platforms);
    services(&mut add);
    selectors(&mut add);
    everything(&mut add, platforms);
    translated(&mut add);
    keys(&mut add);
    certificates(&mut add);
    add("extended sequence numbers", tunnel("extended-sequence-numbers = true"));
    add("extended sequence numbers, IKEv1", tunnel("extended-sequence-numbers = true\nversion = \"ikev1\"\nstrength = \"common\""));
    add("a replay window, DSCP taken over on arrival", tunnel("replay-window = 1024\ncopies-dscp = \"both\""));
    add("DSCP hidden from the path", tunnel("copies-dscp = \"never\""));
    if platforms.contains(&OI) || platforms.contains(&LSW) {
        // OpenIKED rekeys by its timers alone, and Libreswan so in IKEv1.
        for (_, pair) in all.iter_mut().filter(|(_, pair)| platforms.contains(&OI) || pair.tunnel.contains("ikev1")) {
            pair.tunnel = short(&pair.tunnel);
        }
    }
    all
}

/// How the gateways find each other.
fn addresses(add: &mut impl FnMut(&'static str, Pair)) {
    let at = |first| [first, orchard().addresses[1]];
    let [behind, dynamic] = [BEHIND, "address = \"dynamic\""].map(at);
    let sites = ["identity = { name = \"packhouse.example.net\" }\nshares-internet = true", "filter = \"joined\"\nshares-internet = true"];
    add("behind a NAT device", Pair { sites, addresses: behind, ..orchard() });
    let answers = "initiator = \"coldstore\"".to_owned();
    add("behind a NAT device that forwards, answering", Pair { sites, addresses: behind, tunnel: answers, ..orchard() });
    add("a peer by DNS name", Pair { addresses: at("address = \"gate.packhouse.example.net\""), ..orchard() });
    add("a dynamic address and no identity", Pair { addresses: dynamic, ..orchard() });
    let named = ["identity = { address = \"192.0.2.7\" }", ""];
    add("a dynamic address, and another one as identity", Pair { sites: named, addresses: dynamic, ..orchard() });
    add("a dynamic address", Pair { sites, addresses: dynamic, ..orchard() });
    let three = [TWO[0], "racks = \"10.73.16.0/20\", dock = \"10.73.32.0/24\", yard = \"10.73.64.0/30\""];
    let by_hand = "opens = \"by-hand\"\nliveness = \"10s\"".to_owned();
    let several = Pair { sites, addresses: dynamic, networks: three, tunnel: by_hand, ..orchard() };
    add("several pairs with a dynamic address, by hand", several);
    add("NAT traversal forced", Pair { tunnel: "nat-traversal = \"forced\"".to_owned(), ..orchard() });
    let tunnel = "esp = [{ encryption = \"aes-256-ccm\" }]\nnat-traversal = \"forced\"".to_owned();
    add("AES-CCM, NAT traversal forced", Pair { tunnel, ..orchard() });
    add("behind a NAT device, liveness off", Pair { sites, addresses: behind, tunnel: "liveness = \"off\"".to_owned(), ..orchard() });
    add("NAT traversal off", Pair { tunnel: "nat-traversal = \"off\"".to_owned(), ..orchard() });
}

const BEHIND: &str = "address = \"198.51.100.20\", own-address = \"10.99.0.2\"";

/// The version for partners that have nothing else.
fn ikev1(add: &mut impl FnMut(&'static str, Pair)) {
    let v1 = |words: &str| format!("version = \"ikev1\"\n{words}");
    let common = "strength = \"common\"";
    add("IKEv1, main mode", Pair { tunnel: v1(common), ..orchard() });
    add(
        "IKEv1, several pairs, the second site opens",
        Pair { networks: TWO, tunnel: v1(&format!("{common}\ninitiator = \"coldstore\"")), ..orchard() },
    );
    let old = "aggressive = \"nothing else there\"\nopens = \"on-traffic\"\nallows-weak = { \"sha1\" = \"nothing else there\", \"3des-cbc\" = \"nothing else there\", \"modp-1536\" = \"nothing else there\" }\n\
               ike = [{ encryption = \"3des-cbc\", integrity = \"sha1\", group = \"modp-1536\" }]\nesp = [{ encryption = \"3des-cbc\", integrity = \"sha1\" }]";
    let sites = ["identity = { name = \"packhouse.example.net\" }\nshares-internet = true", "identity = { free = \"cold-gate\" }"];
    let curve = "pfs = false\nike = [{ encryption = \"aes-256-cbc\", integrity = \"sha2-256\", group = \"curve25519\" }]\n\
                 esp = [{ encryption = \"aes-256-cbc\", integrity = \"sha2-256\" }]";
    add("IKEv1, curve25519", Pair { tunnel: v1(curve), ..orchard() });
    let named = ["identity = { name = \"packhouse.example.net\" }\nshares-internet = true", ""];
    let addresses = ["address = \"dynamic\"", orchard().addresses[1]];
    add("IKEv1, main mode, a dynamic address", Pair { sites: named, addresses, tunnel: v1(common), ..orchard() });
    add("IKEv1, aggressive mode, withdrawn algorithms", Pair { sites, tunnel: v1(old), ..orchard() });
    add("IKEv1, IPv6", Pair { tunnel: v1(&format!("{common}\nliveness = \"10s\"")), networks: SIX_ONE, ..six() });
}

/// The exemption before the administrator's masquerading, and a filter of either form.
fn packet_filters(add: &mut impl FnMut(&'static str, Pair)) {
    const PLAIN: &str = "packet-filter = \"iptables\"\nshares-internet = true";
    const JOINED: &str = "packet-filter = \"iptables\"\nfilter = \"joined\"\nshares-internet = true";
    add("iptables", Pair { sites: [PLAIN, JOINED], ..orchard() });
    add("iptables and nftables", Pair { sites: [JOINED, "filter = \"joined\"\nshares-internet = true"], ..orchard() });
    add("iptables, IPv6", Pair { sites: [JOINED, PLAIN], networks: SIX_ONE, ..six() });
}

/// Gateways that sign with keys of their own.
fn keys(add: &mut impl FnMut(&'static str, Pair)) {
    const ONE: &str = "keys = { public = \"keys/packhouse.pub\", private = \"keys/packhouse.key\" }";
    const OTHER: &str =
        "keys = { public = \"keys/coldstore.pub\", private = \"keys/coldstore.key\" }\nidentity = { name = \"coldstore.example.net\" }";
    let tunnel = "authentication = \"public-keys\"".to_owned();
    add("public keys", Pair { sites: [ONE, OTHER], tunnel: tunnel.clone(), ..orchard() });
    let subject = format!("{ONE}\nidentity = {{ subject = \"O=Alder Creek Orchards, CN=packhouse.example.net\" }}");
    add(
        "public keys, a subject as identity",
        Pair { sites: [Box::leak(subject.into_boxed_str()), OTHER], tunnel: tunnel.clone(), ..orchard() },
    );
    let old = format!("{tunnel}\nversion = \"ikev1\"\nstrength = \"common\"");
    add("public keys, IKEv1", Pair { sites: [ONE, OTHER], tunnel: old, ..orchard() });
    add(
        "public keys, IPv6, the second site opens",
        Pair { sites: [ONE, OTHER], networks: SIX_ONE, tunnel: format!("{tunnel}\ninitiator = \"coldstore\""), ..six() },
    );
}

/// Gateways that show certificates.
fn certificates(add: &mut impl FnMut(&'static str, Pair)) {
    const ONE: &str = "keys = { certificate = \"keys/packhouse.crt\", issuer = \"keys/ca.crt\", private = \"keys/packhouse.key\" }\nshares-internet = true";
    const OTHER: &str = "keys = { certificate = \"keys/coldstore.crt\", issuer = \"keys/ca.crt\", private = \"keys/coldstore.key\" }\n\
                         identity = { name = \"coldstore.example.net\" }";
    let tunnel = |more: &str| format!("authentication = \"certificates\"\n{more}");
    add("certificates", Pair { sites: [ONE, OTHER], tunnel: tunnel(""), ..orchard() });
    let old = tunnel("version = \"ikev1\"\nstrength = \"common\"");
    add("certificates, IKEv1", Pair { sites: [ONE, OTHER], tunnel: old, ..orchard() });
    let second = tunnel("initiator = \"coldstore\"");
    add("certificates, IPv6, the second site opens", Pair { sites: [ONE, OTHER], networks: SIX_ONE, tunnel: second, ..six() });
    let subject = |keys: &str, site: &str| {
        let keys = keys.split("\nidentity").next().unwrap_or_default();
        &*Box::leak(format!("{keys}\nidentity = {{ subject = \"O=Alder Creek Orchards, CN={site}.example.net\" }}").into_boxed_str())
    };
    let sites = [subject(ONE, "packhouse"), subject(OTHER, "coldstore")];
    add("certificates, subjects as identities", Pair { sites, ..pair(orchard().platforms, &tunnel("")) });
    let named = format!("{ONE}\nidentity = {{ name = \"packhouse.example.net\" }}");
    let sites = [&*Box::leak(named.into_boxed_str()), OTHER];
    let addresses = ["address = \"dynamic\"", orchard().addresses[1]];
    add("certificates, a dynamic address", Pair { sites, addresses, tunnel: tunnel(""), ..orchard() });
}

/// Networks that appear as others, because both sites use the same, or one uses what the other may not see.
fn translated(add: &mut impl FnMut(&'static str, Pair)) {
    const SAME: [&str; 2] = ["office = \"10.1.0.0/22\"", "racks = \"10.1.0.0/22\""];
    const JOINED: &str = "filter = \"joined\"\nshares-internet = true";
    const ROUTES: &str = "style = \"route-based\"\npacket-filter = \"iptables\"\nshares-internet = true";
    let both = "appears-as = { packhouse = { office = \"10.200.0.0/22\" }, coldstore = { racks = \"10.201.0.0/22\" } }".to_owned();
    add("overlapping networks", Pair { sites: ["shares-internet = true", JOINED], networks: SAME, tunnel: both.clone(), ..orchard() });
    let sites = [ROUTES, "style = \"route-based\"\nfilter = \"joined\""];
    add("overlapping networks, route-based", Pair { sites, networks: SAME, tunnel: both, ..orchard() });
    let silent = "initiator = \"coldstore\"\nservices = { packhouse = [\"ssh\", \"ping\"] }".to_owned();
    add("several pairs, opened by a site whose hosts may open nothing", Pair { networks: TWO, tunnel: silent, ..orchard() });
    let one = "appears-as = { coldstore = { racks = \"10.201.16.0/20\" } }\ninitiator = \"coldstore\"\nservices = [\"https\", \"ping\"]";
    add("one network that appears as another", Pair { sites: ["", JOINED], networks: TWO, tunnel: one.to_owned(), ..orchard() });
    let six_as = "appears-as = { packhouse = { office = \"fd41:200::/64\" } }".to_owned();
    add(
        "an IPv6 network that appears as another",
        Pair { networks: SIX_ONE, sites: ["shares-internet = true", ""], tunnel: six_as, ..six() },
    );
}

/// What connections may be for.
fn services(add: &mut impl FnMut(&'static str, Pair)) {
    const JOINED: &str = "filter = \"joined\"\nshares-internet = true";
    const IPTABLES: &str = "packet-filter = \"iptables\"\nshares-internet = true";
    let both = "services = [\"https\", \"ping\", \"udp/5060-5070\"]\nlogs-drops = true".to_owned();
    add("services", Pair { sites: [JOINED, IPTABLES], tunnel: both, ..orchard() });
    let each = "services = { packhouse = [\"ssh\", \"dns\"], coldstore = [\"ping\"] }\nlogs-drops = true".to_owned();
    add("services of each site", Pair { sites: [IPTABLES, ""], networks: TWO, tunnel: each, ..orchard() });
    let one_way = "one-way = \"packhouse\"".to_owned();
    add("one-way", Pair { sites: ["", JOINED], tunnel: one_way, ..orchard() });
    let six_one_way = "one-way = \"coldstore\"\ninitiator = \"coldstore\"\nservices = [\"ping\", \"https\"]".to_owned();
    add("one-way services, IPv6", Pair { sites: ["", IPTABLES], networks: SIX_ONE, tunnel: six_one_way, ..six() });
}

/// What may cross is less than all: pairs of networks, a protocol and a port, a network behind one address.
fn selectors(add: &mut impl FnMut(&'static str, Pair)) {
    const JOINED: &str = "filter = \"joined\"\nshares-internet = true";
    const IPTABLES: &str = "packet-filter = \"iptables\"\nshares-internet = true";
    const ROUTES: &str = "style = \"route-based\"\nshares-internet = true";
    let networks = ["office = \"10.41.0.0/22\", guests = \"10.41.8.0/24\"", "racks = \"10.73.16.0/20\", cameras = \"10.73.40.0/24\""];
    let partly = |more: &str| format!("carries = [[\"office\", \"racks\"]]\n{more}");
    add("what is not carried", Pair { sites: [JOINED, IPTABLES], networks, tunnel: partly(""), ..orchard() });
    add("what is not carried, left alone", Pair { networks, tunnel: partly("not-carried = \"left-alone\""), ..orchard() });
    let limited = "limited-to = { protocol = \"tcp\", ports = { coldstore = 443 } }".to_owned();
    add("selectors with a port", Pair { sites: [IPTABLES, JOINED], tunnel: limited, ..orchard() });
    let limited = "limited-to = { protocol = \"udp\", ports = { packhouse = 514 } }\ninitiator = \"coldstore\"".to_owned();
    add("selectors with a port, IPv6, the second site opens", Pair { networks: SIX_ONE, tunnel: limited, ..six() });
    let limited = "limited-to = { protocol = \"icmp\" }".to_owned();
    add("selectors with a protocol, route-based", Pair { sites: [ROUTES, ROUTES], tunnel: limited, ..orchard() });
    let one = partly("appears-as = { packhouse = { office = \"10.99.7.1/32\" } }");
    add("a network behind one address", Pair { sites: ["shares-internet = true", IPTABLES], networks, tunnel: one, ..orchard() });
    let one = partly("appears-as = { coldstore = { racks = \"10.99.7.1/32\" } }\ninitiator = \"coldstore\"");
    add("a network behind one address, route-based", Pair { sites: [ROUTES, ROUTES], networks, tunnel: one, ..orchard() });
}

/// What one site sends to the internet goes through the other.
fn everything(add: &mut impl FnMut(&'static str, Pair), platforms: [&'static str; 2]) {
    let networks = ["office = \"10.41.0.0/22\", guests = \"10.41.8.0/24\"", "racks = \"10.73.16.0/20\", cameras = \"10.73.40.0/24\""];
    let gre = |more: &str| format!("carrier = \"gre\"\n{more}");
    let at_second = "carries = [[\"office\", \"everything\"]]\n";
    let at_first = "carries = [[\"everything\", \"racks\"], [\"everything\", \"cameras\"]]\n";
    const JOINED: &str = "filter = \"joined\"\nshares-internet = true";
    add("everything over GRE", Pair { sites: [JOINED, "shares-internet = true"], networks, tunnel: gre(at_second), ..orchard() });
    // Routes at whoever reaches it; the hub's selectors may steer.
    let steered = ["style = \"route-based\"", "packet-filter = \"iptables\"\nshares-internet = true"];
    if platforms[0] != OI {
        let tunnel = at_second.to_owned();
        add("everything through a policy-based site", Pair { sites: steered, networks, tunnel, ..orchard() });
    }
    if platforms.contains(&OI) {
        return;
    }
    const ROUTES: &str = "style = \"route-based\"\nshares-internet = true";
    const ROUTES_JOINED: &str = "style = \"route-based\"\nfilter = \"joined\"\nshares-internet = true";
    const IPTABLES: &str = "style = \"route-based\"\npacket-filter = \"iptables\"\nshares-internet = true";
    const BOTH: &str = "style = \"route-based\"\npacket-filter = \"iptables\"\nfilter = \"joined\"\nshares-internet = true";
    add("everything through the second site", Pair { sites: [ROUTES, IPTABLES], networks, tunnel: at_second.to_owned(), ..orchard() });
    let one_way = format!("{at_first}one-way = \"coldstore\"\ninitiator = \"coldstore\"\nlink = \"10.255.0.0/31\"");
    add("everything through the first site, one way", Pair { sites: [ROUTES_JOINED, BOTH], networks, tunnel: one_way, ..orchard() });
    let services = format!("{at_second}services = [\"https\", \"ping\"]");
    let plain = ["style = \"route-based\""; 2];
    add("everything, services, IPv6", Pair { sites: plain, networks: SIX_ONE, tunnel: services, ..six() });
}

/// Routes into an interface at the ends that have one.
fn route_based(add: &mut impl FnMut(&'static str, Pair), platforms: [&'static str; 2]) {
    const ROUTES: &str = "style = \"route-based\"";
    const JOINED: &str = "style = \"route-based\"\nfilter = \"joined\"\nshares-internet = true";
    const IPTABLES: &str = "style = \"route-based\"\npacket-filter = \"iptables\"\nshares-internet = true";
    let words = |words: &str| words.to_owned();
    add("route-based at both ends", Pair { sites: [ROUTES, JOINED], networks: TWO, ..orchard() });
    add("route-based and policy-based", Pair { sites: [JOINED, ""], ..orchard() });
    add("policy-based and route-based", Pair { sites: ["", ROUTES], ..orchard() });
    let numbered = words("link = \"10.255.0.0/31\"\nopens = \"on-traffic\"\ninitiator = \"either\"\npath-mtu = 1492");
    add("route-based, numbered, iptables", Pair { sites: [IPTABLES, IPTABLES], tunnel: numbered, ..orchard() });
    let numbered = words("link = \"fd00:ff::/127\"");
    add("route-based, IPv6, numbered", Pair { sites: [ROUTES, ROUTES], tunnel: numbered, ..six() });
    add("IPv6 networks over IPv4 gateways", Pair { addresses: orchard().addresses, sites: [ROUTES, ROUTES], ..six() });
    let sites = ["style = \"route-based\"\nidentity = { name = \"packhouse.example.net\" }", "shares-internet = true"];
    add("route-based behind a NAT device", Pair { addresses: [BEHIND, orchard().addresses[1]], sites, ..orchard() });
    let v1 = words("version = \"ikev1\"\nstrength = \"common\"");
    add("route-based, IKEv1", Pair { sites: [ROUTES, ROUTES], tunnel: v1, ..orchard() });
    if platforms != [OI, OI] {
        let sites = platforms.map(|platform| if platform == OI { "shares-internet = true" } else { ROUTES });
        add("routes where there are interfaces", Pair { sites, ..orchard() });
    }
}

/// GRE between the gateways, in transport mode.
fn gre(add: &mut impl FnMut(&'static str, Pair)) {
    const JOINED: &str = "filter = \"joined\"\nshares-internet = true";
    const IPTABLES: &str = "packet-filter = \"iptables\"\nshares-internet = true";
    const BOTH: &str = "packet-filter = \"iptables\"\nfilter = \"joined\"";
    let gre = |more: &str| format!("carrier = \"gre\"\n{more}");
    add("GRE", Pair { sites: ["shares-internet = true", JOINED], networks: TWO, tunnel: gre("link = \"10.255.0.0/31\""), ..orchard() });
    let second = gre("initiator = \"coldstore\"\nservices = [\"https\", \"ping\"]\nstrength = \"common\"");
    add("GRE, iptables, services, the second site opens", Pair { sites: [IPTABLES, BOTH], tunnel: second, ..orchard() });
    let sites = ["filter = \"joined\"", IPTABLES];
    add("GRE over IPv6", Pair { addresses: six().addresses, sites, tunnel: gre(""), ..orchard() });
    add("GRE, IPv6 networks over IPv4 gateways", Pair { addresses: orchard().addresses, tunnel: gre("link = \"fd00:ff::/127\""), ..six() });
    let same = ["office = \"10.1.0.0/22\"", "racks = \"10.1.0.0/22\""];
    let both = gre("appears-as = { packhouse = { office = \"10.200.0.0/22\" }, coldstore = { racks = \"10.201.0.0/22\" } }");
    add("GRE, overlapping networks", Pair { sites: [IPTABLES, JOINED], networks: same, tunnel: both, ..orchard() });
    let sites = ["shares-internet = true", BOTH];
    add("GRE, NAT traversal forced", Pair { sites, tunnel: gre("nat-traversal = \"forced\""), ..orchard() });
    add("GRE, tunnel mode", Pair { sites, networks: TWO, tunnel: gre("mode = \"tunnel\"\nlink = \"10.255.0.0/31\""), ..orchard() });
    add("GRE, IKEv1", Pair { tunnel: gre("version = \"ikev1\"\nstrength = \"common\""), ..orchard() });
}

/// What the gateways themselves send each other.
fn hosts(add: &mut impl FnMut(&'static str, Pair)) {
    let own = |more: &str| format!("carries = \"gateways\"\n{more}");
    let hosts = |sites, more: &str| Pair { networks: ["", ""], sites, tunnel: own(more), ..orchard() };
    add("hosts", hosts(["", "filter = \"joined\""], ""));
    const IPTABLES: &str = "packet-filter = \"iptables\"";
    const JOINED: &str = "packet-filter = \"iptables\"\nfilter = \"joined\"";
    let services = "initiator = \"coldstore\"\nservices = { packhouse = [\"https\"], coldstore = [\"ssh\", \"ping\"] }\nlogs-drops = true";
    add("hosts, services, iptables, the second one opens", hosts([JOINED, IPTABLES], services));
    let sites = ["shares-internet = true", "filter = \"joined\""];
    add("hosts with other networks behind them, IPv6", Pair { networks: [SIX_ONE[0], ""], sites, tunnel: own(""), ..six() });
    add(
        "hosts, tunnel mode",
        hosts([IPTABLES, ""], "mode = \"tunnel\"\nservices = { packhouse = [\"https\", \"ping\"], coldstore = [\"ping\"] }"),
    );
    add("hosts, NAT traversal forced", hosts(["", IPTABLES], "nat-traversal = \"forced\""));
    let v1 = "version = \"ikev1\"\nstrength = \"common\"\nopens = \"on-traffic\"\none-way = \"packhouse\"";
    add("hosts, IKEv1, one-way", hosts([IPTABLES, "style = \"route-based\""], v1));
}

/// Gateways that tell each other of their networks.
fn bgp(add: &mut impl FnMut(&'static str, Pair), platforms: [&'static str; 2]) {
    const ONE: &str = "as-number = 65001\nshares-internet = true\nfilter = \"joined\"";
    const OTHER: &str = "as-number = 65002\nshares-internet = true\npacket-filter = \"iptables\"";
    let over = |more: &str| format!("routing = \"bgp\"\n{more}");
    let gre = over("carrier = \"gre\"\nlink = \"10.254.0.0/30\"");
    add("BGP over GRE", Pair { sites: [ONE, OTHER], networks: TWO, tunnel: gre, ..orchard() });
    if !platforms.contains(&OI) {
        const ROUTES: &str = "as-number = 65001\nstyle = \"route-based\"";
        const JOINED: &str =
            "as-number = 65002\nstyle = \"route-based\"\npacket-filter = \"iptables\"\nfilter = \"joined\"\nshares-internet = true";
        let four = over("link = \"10.254.0.0/31\"\ninitiator = \"coldstore\"\nservices = [\"https\", \"ping\"]");
        add("BGP, route-based, services", Pair { sites: [ROUTES, JOINED], networks: TWO, tunnel: four, ..orchard() });
        let same = JOINED.replace("65002", "65001");
        let sites = [ROUTES, &*Box::leak(same.into_boxed_str())];
        add("BGP, route-based, IPv6", Pair { sites, tunnel: over("link = \"fd00:ff::/127\""), ..six() });
        let six_in_four = Pair { addresses: orchard().addresses, sites, tunnel: over("link = \"fd00:ff::/126\""), ..six() };
        add("BGP, route-based, IPv6 networks, one system", six_in_four);
    }
}

/// A capability for a pair of platforms: a description that is proven, or the finding that refuses it.
pub struct Cell {
    pub shows: &'static str,
    pub platforms: [&'static str; 2],
    pub text: String,
    /// The code of the first error, where the program refuses it.
    pub refused: Option<&'static str>,
}

/// Every capability with every ordered pair.
pub fn survey() -> Vec<Cell> {
    let supplied = supplied();
    let mut cells = Vec::new();
    for platforms in ordered_pairs() {
        for (shows, pair) in capabilities(platforms) {
            let text = pair.text();
            let (description, mut findings) = Description::parse(&Source::new("suite.span.toml", text.as_str()), known::context());
            findings.extend(build(&description, &supplied).findings);
            let refused = findings.iter().find(|finding| finding.rule.severity == Severity::Error).map(|finding| finding.rule.code);
            cells.push(Cell { shows, platforms, text, refused });
        }
    }
    cells
}

/// A file with a secret that nobody guesses.
pub fn secret_read(secret: &str) -> SecretFile {
    SecretFile::Read { secret: Secret::new(secret.as_bytes().to_vec()), guesses_log10: 40.0, drawn: true, exposed: false }
}

/// Secrets and keys of the orchard's two sites.
pub fn supplied() -> Supplied {
    let keys = ["packhouse", "coldstore"].into_iter().flat_map(|site| {
        let pair = rcgen::KeyPair::generate().expect("a key");
        let public = PublicKey::from_pem(&pair.public_key_pem()).expect("a key");
        let private = KeyFile::Private { pem: Secret::new(pair.serialize_pem().into_bytes()), public: public.clone(), exposed: false };
        let certificates = certificates_of(site, &pair.serialize_pem()).into_iter();
        let certificate = |pem: &str| KeyFile::Certificate(Certificate::from_pem(pem).expect("a certificate"));
        let certificates: Vec<_> = certificates.map(|(file, pem)| (file, certificate(&pem))).collect();
        certificates.into_iter().chain([(format!("keys/{site}.pub"), KeyFile::Public(public)), (format!("keys/{site}.key"), private)])
    });
    Supplied { secrets: [("k".to_owned(), secret_read(SECRET))].into(), keys: keys.collect(), ..Supplied::default() }
}

/// All descriptions that must come up.
pub fn all() -> Vec<Case> {
    let mut cases: Vec<_> =
        survey().into_iter().filter(|cell| cell.refused.is_none()).map(|cell| Case { shows: cell.shows, text: cell.text }).collect();
    cases.extend(STARS.iter().map(|(shows, text)| Case { shows, text: (*text).to_owned() }));
    cases.extend(variants().map(|(shows, text)| Case { shows, text }));
    cases
}

/// The table of capabilities and platforms, as a page of the reference.
pub fn page() -> String {
    let cells = survey();
    let mut text = String::from(
        "# What is proven\n\nGenerated from the lab's suite by the test `the_page_of_what_is_proven_is_current`; do not edit. Each row is a \
         description, each column an ordered pair of platforms (S strongSwan, L Libreswan, O OpenIKED; the first one is `packhouse`, which \
         opens unless the row says otherwise). `ok` comes up in the lab with every check, as the case of that name in \
         `varied_descriptions_come_up_at_the_first_try_with_every_check_green`; a code is the [finding](findings.md) with which the program \
         refuses the combination.\n\n",
    );
    let letter = |platform: &str| {
        if platform == SS {
            'S'
        } else if platform == LSW {
            'L'
        } else {
            'O'
        }
    };
    let pairs = ordered_pairs();
    let heads: Vec<_> = pairs.iter().map(|pair| format!("{}–{}", letter(pair[0]), letter(pair[1]))).collect();
    let _ = writeln!(text, "| | {} |\n|---|{}", heads.join(" | "), "---|".repeat(heads.len()));
    let mut rows: Vec<&str> = Vec::new();
    for cell in &cells {
        if !rows.contains(&cell.shows) {
            rows.push(cell.shows);
        }
    }
    for row in &rows {
        let cell = |pair: &[&str; 2]| match cells.iter().find(|cell| cell.shows == *row && cell.platforms == *pair) {
            None => "–",
            Some(cell) => cell.refused.unwrap_or("ok"),
        };
        let _ = writeln!(text, "| {row} | {} |", pairs.iter().map(cell).collect::<Vec<_>>().join(" | "));
    }
    let proven = cells.iter().filter(|cell| cell.refused.is_none()).count();
    let _ = writeln!(text, "\n{proven} combinations are proven, {} refused.", cells.len() - proven);
    text
}

/// The part that this run proves: all with USPAN_LAB=all, else a part that follows from the commit, so that another
/// commit proves another part and the same commit the same.
pub fn draw<T>(mut list: Vec<T>, part: usize, key: impl Fn(&T) -> String) -> Vec<T> {
    if std::env::var_os("USPAN_LAB").is_some_and(|wanted| wanted == "all") {
        return list;
    }
    let commit = seed_of_commit();
    list.sort_by_cached_key(|one| seed_of((commit, key(one))));
    list.truncate(part);
    list
}

/// A number that follows from the commit.
pub fn seed_of_commit() -> u64 {
    let commit = Command::new("git").args(["rev-parse", "HEAD"]).output().map(|output| output.stdout).unwrap_or_default();
    seed_of(commit) % 1_000_000
}

/// A number that follows from what it is for.
pub fn seed_of(what: impl Hash) -> u64 {
    let mut hasher = DefaultHasher::new();
    what.hash(&mut hasher);
    hasher.finish()
}

/// The descriptions of this run: with the stars, and then whatever is drawn; or those that USPAN_SHOWS names a part of.
pub fn part() -> Vec<Case> {
    if let Ok(wanted) = std::env::var("USPAN_SHOWS") {
        return all().into_iter().filter(|case| wanted.split(',').any(|part| case.shows.contains(part))).collect();
    }
    const PART: usize = 16;
    let (stars, others): (Vec<_>, Vec<_>) = all().into_iter().partition(|case| STARS.iter().any(|(shows, _)| *shows == case.shows));
    let part = PART - stars.len();
    stars.into_iter().chain(draw(others, part, |case| case.text.clone())).collect()
}
