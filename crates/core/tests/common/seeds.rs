//! Files to begin with, words to change them with, and what reading them may cost. Shared with the targets in `fuzz/`.

#![allow(dead_code, reason = "each program uses a part of it")]

use std::sync::LazyLock;

use uspan_core::effort::counted;
use uspan_core::*;

/// Reads a tree, and sees to it that this takes no more than a tree of its size may: in steps, and in findings. What is covered of it
/// stays in its place.
pub fn within_budget(tree: &Tree, read: impl FnOnce(&Tree) -> (Gateway, Vec<Finding>)) -> (Gateway, Vec<Finding>) {
    let bytes: usize = tree.files.values().map(|file| file.text.len()).sum();
    let ((gateway, findings), steps) = counted(|| read(tree));
    assert!(steps <= 20 * bytes as u64 + 300_000, "{steps} steps for {bytes} bytes");
    assert!(findings.len() <= bytes / 2 + 50, "{} findings for {bytes} bytes", findings.len());
    let covered = covered(tree);
    for (path, file) in &tree.files {
        assert_eq!(covered.files[path].text.len(), file.text.len(), "{path}");
    }
    let findings = discreet(findings, &covered);
    (gateway, findings)
}

/// A description with two ends.
pub const DESCRIPTION: &str = "unified-span = 1\n\
[site.packhouse]\nplatform = \"strongswan\"\ngateway = { address = \"198.51.100.20\", outside = \"wan0\", inside = \"lan0\" }\n\
networks = { office = \"10.41.0.0/22\" }\n\
[site.coldstore]\nplatform = \"libreswan\"\ngateway = { address = \"203.0.113.77\", outside = \"eth0\", inside = \"eth1\" }\n\
networks = { racks = \"10.73.16.0/20\" }\n\
[tunnel.harvest]\nbetween = [\"packhouse\", \"coldstore\"]\nsecret = { file = \"k\" }\n";

/// The secret of all descriptions here.
pub fn supplied() -> Supplied {
    let secret = Secret::new(b"not a real secret, only for this test".to_vec());
    let file = SecretFile::Read { secret, guesses_log10: 40.0, drawn: true, exposed: false };
    Supplied { secrets: [("k".to_owned(), file)].into(), ..Supplied::default() }
}

/// What a change puts in: words that readers look for, and what they stumble over.
pub const WORDS: &[&str] = &[
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
    " : PSK ",
    "auto=add\n",
    "ca x\n",
    "\"C=US, O=x\"",
    "%dynamic[tcp/1]",
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
pub static SEEDS: LazyLock<Vec<Tree>> = LazyLock::new(|| {
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
            let (description, _) = Description::parse(&Source::new("seed.span.toml", text.as_str()), &uspan_core::Context::built_in());
            seeds.extend(build(&description, &supplied()).trees.remove("packhouse"));
        }
    }
    assert!(seeds.len() >= 9, "{}", seeds.len());
    seeds
});

/// Rules, routes and addresses as people write them and as they are listed.
pub const FOREIGN: &[(&str, &str)] = &[
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
        "etc/ipsec.conf",
        "# starter\nconfig setup\n\tuniqueids=yes\n\tcharondebug=\"ike 2\"\n\nca own\n\tcacert=own.pem\n\tauto=add\n\nconn %default\n\tkeyexchange=ikev2\n\tikelifetime=60m\n\tkeylife=20m\n\trekeymargin=3m\n\
         \nconn base\n\tleft=198.51.100.20\n\tleftid=@packhouse.example.net\n\tleftsubnet=10.41.0.0/22,10.42.0.0/24[tcp/443]\n\tauthby=psk\n\tleftfirewall=yes\n\
         conn harvest\n\talso=base\n\tright=203.0.113.77\n\trightid=\"C=US, O=Alder Creek\"\n\trightsubnet=10.73.16.0/20\n\tike=aes256-sha256-modp2048!\n\tesp=aes128gcm16-ecp256,aes-sha1!\n\tdpdaction=restart\n\tauto=route\n\
         include ipsec.d/*.conf\n",
    ),
    (
        "etc/ipsec.secrets",
        "# x\n@packhouse.example.net 203.0.113.77 : PSK \"not a secret\"\n: RSA own.pem \"x\"\n: PSK 0x6162\ninclude ipsec.d/*.secrets\n",
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
