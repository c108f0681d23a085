//! Descriptions of several tunnels: stars, over three daemons.

/// What each of those that every run takes shows, and the description.
pub const STARS: &[(&str, &str)] = &[
    ("a gateway with two tunnels, over three daemons", STAR),
    ("a star of one hub and four members, two of them behind NAT, over three daemons", GROUP),
    ("members of a star that reach each other through the hub", TRANSIT),
    ("members of a star that reach each other and the internet through the hub", THROUGH_HUB),
    ("a second hub that stands in for the first", TWO_HUBS),
    ("BGP with two members, over interfaces", LEARNED),
    ("two tunnels between the same sites", TWINS),
    ("what the gateways send each other beside what networks do", BESIDE),
    ("GRE beside networks", GRE_BESIDE),
];

/// What variants of them show, the description that each is made of, and what is replaced there by what.
const VARIANTS: &[(&str, &str, &str, &str)] = &[
    // The hub's selectors name what goes to each member. It stands first; its members say theirs in one line.
    ("members of a star that reach each other through a hub that is policy-based", TRANSIT, ROUTES, "\n"),
    ("members of a star that reach each other and the internet through a hub that is policy-based", THROUGH_HUB, ROUTES, "\n"),
    // The daemon would not reopen both by itself.
    (
        "what the gateways send each other beside what networks do, by hand",
        BESIDE,
        "initiator = \"coldstore\"",
        "initiator = \"packhouse\"\nopens = \"by-hand\"",
    ),
];

const ROUTES: &str = "\nstyle = \"route-based\"\n";

/// The variants.
pub fn variants() -> impl Iterator<Item = (&'static str, String)> {
    VARIANTS.iter().map(|(shows, text, old, new)| {
        assert!(text.contains(old), "{shows}: {old}");
        (*shows, text.replace(old, new))
    })
}

/// A hub through which its members send everything; its daemon has one connection alone with the same selectors.
const THROUGH_HUB: &str = r#"unified-span = 1
[site.packhouse]
platform = "libreswan"
style = "route-based"
packet-filter = "iptables"
gateway = { address = "198.51.100.20", outside = "wan0", inside = "lan0" }
networks = { office = "10.41.0.0/22" }
shares-internet = true
[inventory.members]
file = "members.csv"
all = { style = "route-based", gateway = { outside = "eth0", inside = ["eth1", "eth2"] }, shares-internet = true }
[group.harvest]
shape = "star"
hubs = ["packhouse"]
members = ["members"]
master = "k"
transit = ["0.0.0.0/0"]
policy = { ike-lifetime = "30m", esp-lifetime = "10m" }
"#;

/// Sessions through two interfaces of a daemon that has one connection alone with the same selectors.
const LEARNED: &str = r#"unified-span = 1
[site.coldstore]
platform = "libreswan"
style = "route-based"
gateway = { address = "203.0.113.77", outside = "eth0", inside = "eth1" }
networks = { racks = "10.73.16.0/20", docks = "10.73.0.0/24" }
as-number = 65001
[site.packhouse]
platform = "strongswan"
style = "route-based"
filter = "joined"
gateway = { address = "198.51.100.20", outside = "wan0", inside = "lan0" }
networks = { office = "10.41.0.0/22" }
as-number = 65002
[site.press]
platform = "libreswan"
style = "route-based"
packet-filter = "iptables"
gateway = { address = "198.51.100.40", outside = "wan0", inside = "lan0" }
networks = { hall = "10.42.0.0/22" }
as-number = 65003
[group.harvest]
shape = "star"
hubs = ["coldstore"]
members = ["packhouse", "press"]
master = "k"
links = "10.255.0.0/16"
policy = { routing = "bgp", ike-lifetime = "30m", esp-lifetime = "10m" }
"#;

/// Two tunnels that share an IKE SA: other services, lifetimes and groups for PFS.
const TWINS: &str = r#"unified-span = 1
[site.packhouse]
platform = "strongswan"
gateway = { address = "198.51.100.20", outside = "wan0", inside = "lan0" }
networks = { office = "10.41.0.0/22", graders = "10.41.8.0/24" }
shares-internet = true
[site.coldstore]
platform = "strongswan"
packet-filter = "iptables"
filter = "joined"
gateway = { address = "203.0.113.77", outside = "eth0", inside = "eth1" }
networks = { racks = "10.73.16.0/20", cameras = "10.73.40.0/24" }
[tunnel.harvest]
between = ["packhouse", "coldstore"]
secret = { file = "k" }
carries = [["office", "racks"]]
[tunnel.watch]
between = ["coldstore", "packhouse"]
secret = { file = "k" }
carries = [["cameras", "graders"]]
initiator = "packhouse"
services = ["https", "ping"]
esp = [{ encryption = "aes-128-gcm" }]
pfs = "ecp-256"
esp-lifetime = "20m"
"#;

/// Networks in tunnel mode, and the two gateways in transport mode, over two daemons.
const BESIDE: &str = r#"unified-span = 1
[site.packhouse]
platform = "libreswan"
gateway = { address = "198.51.100.20", outside = "wan0", inside = "lan0" }
networks = { office = "10.41.0.0/22" }
shares-internet = true
[site.coldstore]
platform = "strongswan"
gateway = { address = "203.0.113.77", outside = "eth0", inside = "eth1" }
networks = { racks = "10.73.16.0/20" }
[tunnel.harvest]
between = ["packhouse", "coldstore"]
secret = { file = "k" }
initiator = "coldstore"
[tunnel.watch]
between = ["packhouse", "coldstore"]
secret = { file = "k" }
carries = "gateways"
initiator = "coldstore"
"#;

/// Networks by their selectors, and others in GRE, over one IKE SA.
const GRE_BESIDE: &str = r#"unified-span = 1
[site.packhouse]
platform = "libreswan"
gateway = { address = "198.51.100.20", outside = "wan0", inside = "lan0" }
networks = { office = "10.41.0.0/22", guests = "10.41.8.0/24" }
shares-internet = true
[site.coldstore]
platform = "strongswan"
packet-filter = "iptables"
gateway = { address = "203.0.113.77", outside = "eth0", inside = "eth1" }
networks = { racks = "10.73.16.0/20", cameras = "10.73.40.0/24" }
[tunnel.harvest]
between = ["packhouse", "coldstore"]
secret = { file = "k" }
carries = [["office", "racks"]]
[tunnel.watch]
between = ["packhouse", "coldstore"]
secret = { file = "k" }
carrier = "gre"
carries = [["guests", "cameras"]]
"#;

/// Two hubs with the same network behind them.
const TWO_HUBS: &str = r#"unified-span = 1
[site.packhouse]
platform = "strongswan"
style = "route-based"
gateway = { address = "198.51.100.20", outside = "wan0", inside = "lan0" }
networks = { office = "10.41.0.0/22" }
shares-internet = true
[site.press]
platform = "libreswan"
style = "route-based"
gateway = { address = "198.51.100.40", outside = "wan0", inside = "lan0" }
networks = { hall = "10.42.0.0/22" }
shares-internet = true
[site.coldstore]
platform = "strongswan"
style = "route-based"
gateway = { address = "203.0.113.77", outside = "eth0", inside = "eth1" }
networks = { racks = "10.73.16.0/20" }
shares-internet = true
[group.harvest]
shape = "star"
hubs = ["packhouse", "press"]
members = ["coldstore"]
master = "k"
transit = ["0.0.0.0/0"]
policy = { ike-lifetime = "30m", esp-lifetime = "10m" }
"#;

/// A star from one group: one policy, one master secret.
const GROUP: &str = r#"unified-span = 1
[site.packhouse]
platform = "strongswan"
gateway = { address = "198.51.100.20", outside = "wan0", inside = "lan0" }
networks = { office = "10.41.0.0/22" }
shares-internet = true
[inventory.orchards]
file = "orchards.csv"
all = { gateway = { outside = "eth0", inside = "eth1" }, shares-internet = true }
[group.harvest]
shape = "star"
hubs = ["packhouse"]
members = ["orchards"]
master = "k"
policy = { ike-lifetime = "30m", esp-lifetime = "10m" }
"#;

/// A star whose members reach each other through the hub.
const TRANSIT: &str = r#"unified-span = 1
[site.packhouse]
platform = "strongswan"
style = "route-based"
gateway = { address = "198.51.100.20", outside = "wan0", inside = "lan0" }
networks = { office = "10.41.0.0/22" }
shares-internet = true
[inventory.members]
file = "members.csv"
all = { style = "route-based", gateway = { outside = "eth0", inside = ["eth1", "eth2"] }, shares-internet = true }
[group.harvest]
shape = "star"
hubs = ["packhouse"]
members = ["members"]
master = "k"
transit = ["10.72.0.0/13", "10.88.0.0/13"]
policy = { ike-lifetime = "30m", esp-lifetime = "10m" }
"#;

/// The sites of these groups.
pub const MEMBERS: &str = "name,platform,gateway.address,gateway.own-address,identity.name,networks\n\
    coldstore,libreswan,203.0.113.77,,,racks=10.73.16.0/20 docks=10.73.0.0/24\n\
    press,libreswan,203.0.113.120,10.99.0.2,press.example.net,hall=10.91.0.0/24\n\
    market,strongswan,203.0.113.140,10.99.1.2,market.example.net,stalls=10.92.0.0/24\n";

/// The sites of the group before.
pub const ORCHARDS: &str = "name,platform,gateway.address,gateway.own-address,identity.name,networks\n\
    coldstore,libreswan,203.0.113.77,,,racks=10.73.16.0/20\n\
    nursery,openiked,203.0.113.90,,,beds=10.90.0.0/24\n\
    press,libreswan,203.0.113.120,10.99.0.2,press.example.net,hall=10.91.0.0/24\n\
    market,strongswan,203.0.113.140,10.99.1.2,market.example.net,stalls=10.92.0.0/24\n";

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
