//! Readers survive whatever stands in the files: real files with anything changed in them.
//!
//! `USPAN_FUZZ_RUNS` says how often each reader is tried; without it a few thousand times.

use std::sync::LazyLock;

use proptest::prelude::*;
use proptest::test_runner::{Config, RngAlgorithm, TestRng, TestRunner};
use uspan_core::*;

/// A change: where, in thousandths of the text, what, and how much.
type Edit = (u16, u8, u8);

/// What a change puts in: words that readers look for, and what they stumble over.
const WORDS: &[&str] = &[
    "{",
    "}",
    "\"",
    "'",
    "\\",
    "\n",
    "\t",
    " ",
    "#",
    "=",
    ",",
    ";",
    "%",
    "$",
    "@",
    "!",
    "+",
    "-",
    "/",
    ":",
    "*",
    "0x",
    "0s",
    "include ",
    "also=",
    "alsoflip=",
    "conn %default\n",
    "config setup\n",
    "conn x\n",
    "left",
    "right",
    "subnets={",
    "10.0.0.0/8",
    "::/0",
    "0.0.0.0/33",
    "999999999999999999999",
    "-1",
    "65536",
    "%any",
    "%defaultroute",
    "connections {",
    "children {",
    "secrets {",
    "ike",
    "esp",
    "ikev2 \"x\" ",
    "from ",
    " to ",
    "psk ",
    "childsa ",
    "ikesa enc aes-256 ",
    "table inet x {",
    "chain y {",
    "type filter hook ",
    "ip saddr ",
    "udp dport { ",
    "snat to ",
    "-A ",
    "-j ",
    ":x - [0:0]",
    "*nat\n",
    "COMMIT\n",
    "up ip route add ",
    "iface a inet manual\n",
    "router bgp ",
    "define x = { ",
    "$x",
    "@x",
    "set x {",
    "elements = { ",
    "policy drop;",
    "priority srcnat - ",
    "jump y",
    "goto y",
    "ct state vmap { new : ",
    "oifname != ",
    "limit rate over ",
    "masquerade",
    "*filter\n",
    ":FORWARD DROP [0:0]\n",
    "-A FORWARD ! ",
    "-m policy --dir in --pol ipsec ",
    "-g x\n",
    "default via ",
    "blackhole ",
    " dev ",
    " metric ",
    "2: x@y: <UP> ",
    "    inet ",
    "é",
    "\u{0}",
    "\u{feff}",
    "\r\n",
];

/// Files of a gateway as they are written, and as people write them.
static SEEDS: LazyLock<Vec<Tree>> = LazyLock::new(|| {
    let mut seeds = Vec::new();
    for platform in ["strongswan", "libreswan", "openiked"] {
        for (sites, tunnel) in [
            ("", ""),
            ("style = \"route-based\"\npacket-filter = \"iptables\"\n", "services = [\"https\", \"ping\"]\n"),
            ("filter = \"joined\"\nshares-internet = true\n", "nat-traversal = \"forced\"\n"),
            ("as-number = 65001\n", "carrier = \"gre\"\nrouting = \"bgp\"\nlink = \"10.254.0.0/30\"\n"),
        ] {
            let text = format!(
                "unified-span = 1\n\
                 [site.packhouse]\nplatform = \"{platform}\"\ngateway = {{ address = \"198.51.100.20\", outside = \"wan0\", inside = \"lan0\" }}\n\
                 networks = {{ office = \"10.41.0.0/22\" }}\n{sites}\
                 [site.coldstore]\nplatform = \"strongswan\"\ngateway = {{ address = \"203.0.113.77\", outside = \"eth0\", inside = \"eth1\" }}\n\
                 networks = {{ racks = \"10.73.16.0/20\" }}\n{}\
                 [tunnel.harvest]\nbetween = [\"packhouse\", \"coldstore\"]\nsecret = {{ file = \"k\" }}\n{tunnel}",
                sites.replace("65001", "65002")
            );
            let (description, _) = Description::parse(&Source::new("seed.span.toml", text.as_str()));
            let secret = Secret::new(b"not a real secret, only for this test".to_vec());
            let file = SecretFile::Read { secret, guesses_log10: 40.0, drawn: true, exposed: false };
            let supplied = Supplied { secrets: [("k".to_owned(), file)].into(), ..Supplied::default() };
            seeds.extend(build(&description, &supplied).trees.remove("packhouse"));
        }
    }
    assert!(seeds.len() >= 9, "{}", seeds.len());
    seeds
});

/// Rules, routes and addresses as people write them and as they are listed.
const FOREIGN: &[(&str, &str)] = &[
    (
        "etc/nftables.conf",
        "#!/usr/sbin/nft -f\nflush ruleset\ndefine inside = { lan0, lan1 }\ntable inet house {\n\tset private { type ipv4_addr; flags interval; elements = { 10.0.0.0/8,\n 172.16.0.0-172.31.255.255 } }\n\
         \tchain input {\n\t\ttype filter hook input priority filter; policy drop;\n\t\tct state vmap { established : accept, related : accept, invalid : drop }\n\t\tiif lo accept\n\
         \t\ticmp type { echo-request, 3 } limit rate 10/second burst 5 packets accept\n\t\tiifname $inside tcp dport { ssh, 8080-8090 } accept comment \"x\"\n\t\tlog prefix \"d: \" flags all\n\t}\n\
         \tchain lan { ip daddr @private accept; jump lan; return; }\n\tchain forward {\n\t\ttype filter hook forward priority 0; policy drop;\n\t\tip6 saddr fe80::/10 meta ipsec missing drop\n\t\tiifname \"lan*\" goto lan\n\t}\n}\n\
         table ip nat {\n\tchain post {\n\t\ttype nat hook postrouting priority srcnat - 5;\n\t\tip saddr 10.41.0.0/22 oifname != \"wan0\" return\n\t\tsnat prefix to 10.9.0.0/22\n\t\tmasquerade random\n\t}\n}\n",
    ),
    (
        "etc/iptables/rules.v4",
        "# x\n*nat\n:POSTROUTING ACCEPT [0:0]\n-A POSTROUTING ! -d 10.0.0.0/8,172.16.0.0/12 -o wan+ -m comment --comment \"all of it\" -j MASQUERADE\n-A POSTROUTING -s 10.1.0.0/16 -j SNAT --to-source 198.51.100.20\nCOMMIT\n\
         *filter\n:INPUT DROP [1:2]\n:FORWARD DROP [0:0]\n:x - [0:0]\n[1:2] -A INPUT -i lo -j ACCEPT\n-A INPUT -p udp -m multiport --dports 500,4500 -j ACCEPT\n-A FORWARD -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT\n\
         -A FORWARD -m policy --dir in --pol ipsec --strict -g x\n-A x -m limit --limit 5/sec -j LOG --log-prefix \"a b\"\n-A x -j REJECT --reject-with icmp-port-unreachable\nCOMMIT\n",
    ),
    (
        "listing/ip-address",
        "2: wan0@if5: <UP> mtu 1500\n    inet 198.51.100.20/24 brd 198.51.100.255 scope global wan0\n    inet6 fe80::1/64 scope link\n",
    ),
    (
        "listing/ip-route",
        "default via 198.51.100.1 dev wan0 proto static\nblackhole 10.73.16.0/20 metric 4107\n10.9.0.0/16\n\tnexthop via 10.41.0.2 dev lan0 weight 1\n",
    ),
];

fn at(text: &str, thousandths: u16) -> usize {
    let mut at = text.len() * usize::from(thousandths) / 1000;
    while !text.is_char_boundary(at) {
        at -= 1;
    }
    at
}

fn changed(text: &str, edits: &[Edit]) -> String {
    let mut text = text.to_owned();
    for (place, kind, amount) in edits {
        let from = at(&text, *place);
        let mut to = (from + usize::from(*amount)).min(text.len());
        while !text.is_char_boundary(to) {
            to += 1;
        }
        match kind % 5 {
            0 => text.replace_range(from..to, ""),
            1 => text.insert_str(from, WORDS[usize::from(*amount) % WORDS.len()]),
            2 => {
                let again = text[from..to].to_owned();
                text.insert_str(to, &again);
            }
            3 => text.truncate(from),
            _ => text.replace_range(from..to, WORDS[usize::from(*amount) % WORDS.len()]),
        }
    }
    text
}

#[allow(clippy::disallowed_methods, reason = "how long it tries is up to whoever runs it")]
fn runs() -> u32 {
    std::env::var("USPAN_FUZZ_RUNS").ok().and_then(|runs| runs.parse().ok()).unwrap_or(2_000)
}

/// Changes one of the files below one of these paths, reads the gateway, and looks at what is said of it.
fn survives(word: &'static str, below: &'static [&'static str]) {
    let seeds: Vec<(Tree, Vec<String>)> = SEEDS
        .iter()
        .filter(|tree| platforms_of(tree).iter().any(|platform| platform.facts().word == word))
        .cloned()
        .chain(FOREIGN.iter().map(|(path, text)| {
            let mut tree = Tree::default();
            tree.add(*path, TreeFile::public((*text).to_owned()));
            tree
        }))
        .map(|mut tree| {
            // The other readers' files are theirs.
            tree.files.retain(|path, _| below.iter().any(|start| path.starts_with(start)));
            let paths = tree.files.keys().cloned().collect::<Vec<_>>();
            (tree, paths)
        })
        .filter(|(_, paths)| !paths.is_empty())
        .collect();
    assert!(!seeds.is_empty(), "{word}: {below:?}");
    let platform = platform(word).expect("a platform");
    let config = Config { cases: runs(), failure_persistence: None, ..Config::default() };
    let rng = TestRng::deterministic_rng(RngAlgorithm::ChaCha);
    let strategy = (any::<u16>(), any::<u16>(), prop::collection::vec((0..1000u16, any::<u8>(), any::<u8>()), 1..6));
    let ran = TestRunner::new_with_rng(config, rng).run(&strategy, |(seed, path, edits)| {
        let (tree, paths) = &seeds[usize::from(seed) % seeds.len()];
        let path = &paths[usize::from(path) % paths.len()];
        let mut tree = tree.clone();
        let file = tree.files.get_mut(path).expect("there");
        file.text = changed(&file.text, &edits);
        let (gateway, findings) = read_tree(platform, &tree);
        for hook in [Hook::Input, Hook::Forward, Hook::Departure] {
            // Whatever jumps where, asking comes to an end.
            let met = Met {
                hook,
                from: "10.41.0.7/32".parse().expect("a network"),
                to: "10.73.16.9/32".parse().expect("a network"),
                traffic: &Traffic::Ping,
                into: Face::Unknown,
                out_of: Face::Named("lan0"),
                leaving: true,
                arrived: false,
            };
            let _ = gateway.ruleset.ruling(&met, gateway.filter.as_ref());
            let _ = gateway.ruleset.translation(&met, |_| true);
        }
        for place in findings.iter().filter_map(|finding| finding.place.as_ref()) {
            // A place is in the file that it names, and can be shown.
            let text = tree.files.get(&*place.file).map(|file| file.text.as_str());
            prop_assert!(text.is_some_and(|text| text.get(place.span.range()).is_some()), "{place:?}");
        }
        Ok(())
    });
    ran.unwrap_or_else(|error| panic!("{word}: {error}"));
}

#[test]
fn strongswan() {
    survives("strongswan", &["etc/swanctl"]);
}

#[test]
fn libreswan() {
    survives("libreswan", &["etc/ipsec"]);
}

#[test]
fn openiked() {
    survives("openiked", &["etc/iked"]);
}

#[test]
fn nftables() {
    survives("strongswan", &["etc/nftables"]);
}

#[test]
fn iptables() {
    survives("strongswan", &["etc/iptables"]);
}

#[test]
fn interfaces() {
    survives("strongswan", &["etc/network", "listing/ip"]);
}

#[test]
fn routing() {
    survives("strongswan", &["etc/frr"]);
}
