//! Whole packet filters of an administrator's: files as people write them, and listings of what is loaded, with the demo's
//! tunnel among them. What the walk, the comparison and the rehearsal make of them.

use crate::known;
use std::net::IpAddr;

use crate::orchard::orchard;
use uspan_core::*;

/// The orchard's two gateways; `packhouse` has more lines.
fn trees(packhouse: &str) -> [Tree; 2] {
    orchard(["strongswan", "libreswan"], packhouse, "")
}

const ADDRESSES: &str = "2: wan0: <BROADCAST,UP> mtu 1500\n    inet 198.51.100.20/24 brd 198.51.100.255 scope global wan0\n\
                         3: lan0: <BROADCAST,UP> mtu 1500\n    inet 10.41.0.1/22 brd 10.41.3.255 scope global lan0\n";

/// Packhouse with these files beside those of its tunnel, and the names of its interfaces.
fn with(mut trees: [Tree; 2], files: &[(&str, &str)]) -> [Tree; 2] {
    trees[0].add("listing/ip-address", TreeFile::public(ADDRESSES.to_owned()));
    for (path, text) in files {
        trees[0].add(*path, TreeFile::public((*text).to_owned()));
    }
    trees
}

struct Seen {
    gateways: [Gateway; 2],
    findings: Vec<Finding>,
    trees: [Tree; 2],
}

fn seen(trees: [Tree; 2]) -> Seen {
    let mut findings = Vec::new();
    let gateways = trees.each_ref().map(|tree| {
        let (gateway, more) = known::read_as(known::platform_of(tree), tree);
        findings.extend(more);
        gateway
    });
    Seen { gateways, findings, trees }
}

impl Seen {
    fn actor(&self, end: usize) -> Actor<'_> {
        let facts = known::platform_of(&self.trees[end]);
        let addresses: [IpAddr; 2] = [[198, 51, 100, 20].into(), [203, 0, 113, 77].into()];
        let reading = ReadGateway {
            name: ["packhouse", "coldstore"][end],
            gateway: &self.gateways[end],
            ends_open: facts.own_end == OwnEnd::ByAddress,
            tree: Some(&self.trees[end]),
        };
        Actor { reading, behaviour: &facts.behaviour, stands: KnownAddresses { own: Some(addresses[end]), reached: Some(addresses[end]) } }
    }

    fn walked(&self, from: &str, to: &str, word: &str) -> Walk {
        let walker = |end: usize| Walker { actor: self.actor(end), inside: &[], shares_internet: Some(false), networks: &[] };
        let traffic = service(word).expect("a service").remove(0);
        let flow = Flow { from: from.parse().expect("an address"), to: to.parse().expect("an address"), traffic };
        walk([walker(0), walker(1)], &flow).expect("a start")
    }

    /// Where a walk from the office to the racks stops: what it says, the line that decides, and what to do.
    fn stop(&self, word: &str) -> Option<(String, String, String)> {
        self.stopped(&self.walked("10.41.1.7", "10.73.16.9", word))
    }

    fn stopped(&self, walk: &Walk) -> Option<(String, String, String)> {
        let legs = [Some(&walk.there), walk.back.as_ref()];
        let hop = legs.into_iter().flatten().flat_map(|leg| &leg.hops).find(|hop| !hop.passes)?;
        let line = hop.decided.as_ref().and_then(|(_, spelling)| spelling.clone()).unwrap_or_default();
        Some((hop.says.clone(), line, hop.remedy.clone().unwrap_or_default()))
    }

    fn row(&self, name: &str) -> Option<(Gravity, String, String)> {
        let comparison = compare_ends(self.actor(0), self.actor(1));
        let row = comparison.pairs[0].parameters.iter().find(|parameter| parameter.name == name)?;
        Some((row.gravity, row.values[0].value.clone(), row.values[0].spelling.clone().unwrap_or_default()))
    }
}

/// As people write one: variables, sets, a map of verdicts, chains that jump, both ways of naming priorities.
const HOUSE: &str = "#!/usr/sbin/nft -f\nflush ruleset\n\n\
    define wan = \"wan0\"\ndefine inside = { lan0, lan1 }\n\n\
    table inet house {\n\
    \tset private {\n\t\ttype ipv4_addr\n\t\tflags interval\n\t\telements = { 10.0.0.0/8,\n\t\t             172.16.0.0/12 }\n\t}\n\
    \tset strangers { type ipv4_addr; flags dynamic, timeout; timeout 1h; }\n\n\
    \tinclude \"/etc/nftables.d/*.chains\"\n\n\
    \tchain input {\n\t\ttype filter hook input priority filter; policy drop;\n\
    \t\tct state vmap { established : accept, related : accept, invalid : drop }\n\
    \t\tiif lo accept\n\t\tip saddr @strangers drop\n\t\tjump uspan-harvest-input\n\
    \t\ticmp type { echo-request, destination-unreachable } limit rate 10/second accept\n\
    \t\tiifname $inside tcp dport { ssh, 8080-8090 } accept comment \"the office\"\n\
    \t\tlog prefix \"dropped: \" flags all\n\t}\n\n\
    \tchain lan { ip daddr @private accept; tcp dport { http, https } counter accept; return; }\n\n\
    \tchain forward {\n\t\ttype filter hook forward priority 0; policy drop;\n\
    \t\tct state established,related accept\n\t\tjump uspan-harvest-forward\n\
    \t\tiifname $inside goto lan\n\t}\n\
    }\n\
    table ip nat {\n\tchain postrouting {\n\t\ttype nat hook postrouting priority srcnat; policy accept;\n\
    \t\toifname $wan ip saddr @office masquerade\n\t\toifname $wan masquerade random\n\t}\n\
    \tset office { type ipv4_addr; flags interval; elements = { 10.41.0.0/22 }; }\n}\n\
    include \"/etc/nftables.d/*.nft\"\n";

#[test]
fn a_filter_that_jumps_to_the_tunnels_chains_lets_the_tunnel_pass() {
    let seen = seen(with(trees("filter = \"joined\"\nshares-internet = true"), &[("etc/nftables.conf", HOUSE)]));
    let unknown: Vec<_> = seen.findings.iter().map(|finding| finding.message.as_str()).collect();
    assert_eq!(unknown, ["`ip saddr @strangers drop` is not understood"]);
    assert_eq!(seen.stop("https"), None, "{:#?}", seen.walked("10.41.1.7", "10.73.16.9", "https"));
    let back = seen.walked("10.73.16.9", "10.41.1.7", "ssh");
    assert!(back.works(), "{back:#?}");
    assert_eq!(seen.row("exemption from NAT").map(|row| row.0), Some(Gravity::Compatible));
    assert_eq!(seen.row("inbound filter").map(|row| row.0), Some(Gravity::Equal));
    assert_eq!(seen.row("let in from the peer").map(|row| (row.0, row.1)), Some((Gravity::Equal, "IKE and ESP".to_owned())));
    // A set that changes while it runs decides about strangers; nobody can tell from the files.
    let unsure: Vec<_> = back.there.hops.iter().flat_map(|hop| &hop.unsure).filter_map(|(_, line)| line.clone()).collect();
    assert_eq!(unsure, ["ip saddr @strangers drop"]);
}

#[test]
fn a_tunnel_whose_chains_nobody_jumps_to_stays_outside() {
    let house = HOUSE.replace("jump uspan-harvest-forward\n", "\n").replace("jump uspan-harvest-input\n", "\n");
    let seen = seen(with(trees("filter = \"joined\"\nshares-internet = true"), &[("etc/nftables.conf", &house)]));
    let (says, line, remedy) = seen.stopped(&seen.walked("10.73.16.9", "10.41.1.7", "ssh")).expect("it stops");
    assert_eq!(says, "no rule of the chain input is for it: it drops ESP from 203.0.113.77 to 198.51.100.20");
    assert_eq!(line, "type filter hook input priority filter; policy drop;");
    assert_eq!(remedy, "Jump from the chain input to that of the tunnel; nothing does.");
    let rehearsals = rehearse([seen.actor(0), seen.actor(1)], Some(1));
    let failure = &rehearsals.all[0].failures[0];
    assert_eq!(failure.reason, "The filter of packhouse does not let UDP 500 in from 203.0.113.77.");
    assert_eq!(failure.cures[0].spelling.as_deref(), Some("type filter hook input priority filter; policy drop;"));
    let (gravity, value, line) = seen.row("let in from the peer").expect("a row");
    assert_eq!((gravity, value.as_str()), (Gravity::Fatal, "not UDP 500, UDP 4500, ESP"));
    assert_eq!(line, "type filter hook input priority filter; policy drop;");
    let (gravity, value, line) = seen.row("inbound filter").expect("a row");
    assert_eq!((gravity, value.as_str()), (Gravity::Fatal, "does not pass: 10.73.16.0/20 to 10.41.0.0/22"));
    assert_eq!(line, "type filter hook forward priority 0; policy drop;");
}

#[test]
fn out_works_in_does_not() {
    let house = HOUSE.replace("jump uspan-harvest-forward\n", "\n");
    let seen = seen(with(trees("filter = \"joined\"\nshares-internet = true"), &[("etc/nftables.conf", &house)]));
    // From inside the set of private networks lets it pass, without the tunnel's chains.
    assert_eq!(seen.stop("https"), None);
    let (says, line, remedy) = seen.stopped(&seen.walked("10.73.16.9", "10.41.1.7", "ssh")).expect("it stops");
    assert_eq!(says, "no rule of the chain forward is for it: it drops ssh from 10.73.16.9 to 10.41.1.7");
    assert_eq!(line, "type filter hook forward priority 0; policy drop;");
    assert_eq!(remedy, "Jump from the chain forward to that of the tunnel; nothing does.");
}

#[test]
fn a_rule_before_the_jump_decides_first() {
    let house = HOUSE.replace(
        "jump uspan-harvest-forward\n",
        "ip saddr 10.41.0.0/16 ip daddr != 10.41.0.0/16 tcp dport 443 reject with tcp reset\n jump uspan-harvest-forward\n",
    );
    let seen = seen(with(trees("filter = \"joined\"\nshares-internet = true"), &[("etc/nftables.conf", &house)]));
    let (says, line, remedy) = seen.stop("https").expect("it stops");
    assert_eq!(says, "the administrator's rule drops https from 10.41.1.7 to 10.73.16.9");
    assert!(line.ends_with("reject with tcp reset"), "{line}");
    assert_eq!(remedy, "Before this line, let https pass from 10.41.1.7 to 10.73.16.9.");
    assert_eq!(seen.stop("ssh"), None);
}

/// The exemption of a tunnel stands in a chain of its own before the administrator's; one that stands later comes too late.
#[test]
fn an_administrators_chain_that_stands_earlier_translates_first() {
    for (priority, gravity) in [("srcnat - 20", Gravity::Fatal), ("srcnat-20", Gravity::Fatal), ("90", Gravity::Compatible)] {
        let house = HOUSE.replace("hook postrouting priority srcnat;", &format!("hook postrouting priority {priority};"));
        let seen = seen(with(trees("filter = \"joined\"\nshares-internet = true"), &[("etc/nftables.conf", &house)]));
        let (found, value, line) = seen.row("exemption from NAT").expect("a row");
        assert_eq!(found, gravity, "{priority}: {value}");
        if gravity == Gravity::Fatal {
            assert_eq!(value, "10.41.0.0/22 becomes the gateway's own address");
            assert_eq!(line, "oifname $wan ip saddr @office masquerade");
            let (says, line, _) = seen.stop("https").expect("it stops");
            assert!(says.contains("no selector covers 198.51.100.20") && line.is_empty(), "{says}: {line}");
        }
    }
}

/// An exemption by hand, in the administrator's own chain: before the rule that translates it holds, behind it it does not.
#[test]
fn an_exemption_by_hand_holds_only_before_the_rule_that_translates() {
    let by_hand = "ip saddr 10.41.0.0/22 ip daddr 10.73.16.0/20 accept";
    for (before, holds) in [(true, true), (false, false)] {
        let (first, second) = if before { (by_hand, "oifname \"wan0\" masquerade") } else { ("oifname \"wan0\" masquerade", by_hand) };
        let nat = format!("table ip nat {{\n chain post {{\n  type nat hook postrouting priority 100;\n  {first}\n  {second}\n }}\n}}\n");
        let mut trees = with(trees("shares-internet = true"), &[("etc/nftables.conf", &nat)]);
        let own = trees[0].files.get_mut("etc/nftables.d/uspan-harvest.nft").expect("there");
        own.text = own.text.replace("counter snat ip prefix to 10.41.0.0/22", "counter accept");
        let seen = seen(trees);
        assert_eq!(seen.stop("https").is_none(), holds, "{first}");
        assert_eq!(seen.row("exemption from NAT").map(|row| row.0 != Gravity::Fatal), Some(holds), "{first}");
    }
}

/// What iptables-save prints, with the tunnel's chains among the administrator's.
fn saved(exemption_first: bool) -> String {
    let (first, second) =
        ("-A POSTROUTING -j uspan-harvest-nat", "-A POSTROUTING -s 10.41.0.0/22 -o wan0 -m comment --comment \"all of it\" -j MASQUERADE");
    let (first, second) = if exemption_first { (first, second) } else { (second, first) };
    format!(
        "# Generated by iptables-save v1.8.9 (nf_tables)\n*nat\n:PREROUTING ACCEPT [7:420]\n:INPUT ACCEPT [0:0]\n:OUTPUT ACCEPT [1:60]\n:POSTROUTING ACCEPT [0:0]\n\
         :uspan-harvest-nat - [0:0]\n{first}\n{second}\n\
         -A uspan-harvest-nat -s 10.41.0.0/22 -d 10.73.16.0/20 -j ACCEPT\n-A uspan-harvest-nat -s 10.73.16.0/20 -d 10.41.0.0/22 -j ACCEPT\nCOMMIT\n\
         *filter\n:INPUT DROP [12:720]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [9:540]\n:guests - [0:0]\n\
         -A INPUT -i lo -j ACCEPT\n-A INPUT -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT\n\
         [3:180] -A INPUT -s 203.0.113.77/32 -p udp -m multiport --dports 500,4500 -j ACCEPT\n-A INPUT -s 203.0.113.77/32 -p esp -j ACCEPT\n\
         -A FORWARD -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT\n\
         -A FORWARD ! -s 10.41.0.0/22 -i lan0 -j guests\n\
         -A FORWARD -i lan0 -o wan0 -j ACCEPT\n\
         -A FORWARD -s 10.73.16.0/20 -i wan+ -m policy --dir in --pol ipsec -p tcp -m tcp --dport 22 -j ACCEPT\n\
         -A FORWARD -m set --match-set friends src -j ACCEPT\n\
         -A guests -m limit --limit 5/min --limit-burst 10 -j LOG --log-prefix \"guest: \" --log-level 6\n-A guests -j REJECT --reject-with icmp-admin-prohibited\nCOMMIT\n"
    )
}

#[test]
fn a_listing_of_the_other_packet_filter() {
    let built = || {
        let mut trees = trees("packet-filter = \"iptables\"\nshares-internet = true");
        trees[0].files.retain(|path, _| !path.starts_with("etc/iptables"));
        trees
    };
    let good = seen(with(built(), &[("listing/iptables", &saved(true))]));
    let unknown: Vec<_> = good.findings.iter().map(|finding| finding.message.as_str()).collect();
    assert_eq!(unknown, ["`-A FORWARD -m set --match-set friends src -j ACCEPT` is not understood"]);
    assert_eq!(good.stop("https"), None, "{:#?}", good.walked("10.41.1.7", "10.73.16.9", "https"));
    assert!(good.walked("10.73.16.9", "10.41.1.7", "ssh").works());
    // Another port passes only if the set has its source; the walk says so.
    let web = good.walked("10.73.16.9", "10.41.1.7", "https");
    let unsure = web.there.hops.iter().find(|hop| !hop.unsure.is_empty()).expect("a doubt");
    assert_eq!(unsure.unsure[0].1.as_deref(), Some("-A FORWARD -m set --match-set friends src -j ACCEPT"));
    assert!(unsure.says.contains("unless another rule accepts"), "{}", unsure.says);
    assert!(unsure.open && web.works() && !web.is_sure());
    assert!(good.walked("10.73.16.9", "10.41.1.7", "ssh").is_sure());
    assert_eq!(good.row("exemption from NAT").map(|row| row.1), Some("exempt".to_owned()));

    let late = seen(with(built(), &[("listing/iptables", &saved(false))]));
    assert_eq!(
        late.row("exemption from NAT").map(|row| (row.0, row.1)),
        Some((Gravity::Fatal, "10.41.0.0/22 becomes the gateway's own address".to_owned()))
    );
    assert!(late.stop("https").is_some_and(|(says, ..)| says.contains("no selector covers 198.51.100.20")));
}

/// Where the kernel lists the rules of both packet filters in one, those of the other one are read from its own listing.
#[test]
fn rules_that_both_list_count_once() {
    let nft = "# Warning: table ip filter is managed by iptables-nft, do not touch!\ntable ip filter {\n\tchain FORWARD {\n\t\ttype filter hook forward priority filter; policy drop;\n\t\txt match \"set\" counter packets 0 bytes 0 accept\n\t}\n}\n";
    let rules = |files: &[(&str, &str)]| {
        let seen = seen(with(trees(""), files));
        let chains = seen.gateways[0].ruleset.chains.iter();
        chains.map(|chain| format!("{} {}", chain.table, chain.name)).collect::<Vec<_>>()
    };
    assert_eq!(rules(&[("listing/nft", nft)]), ["ip filter FORWARD"]);
    let saved = "*filter\n:FORWARD DROP [0:0]\nCOMMIT\n";
    assert_eq!(rules(&[("listing/nft", nft), ("listing/iptables", saved)]), ["filter FORWARD"]);
}

/// Routes as ip-route(8) lists them: without a default route nothing comes as far as the selectors.
#[test]
fn routes_as_they_were_listed() {
    let default = "default via 198.51.100.1 dev wan0\n10.41.0.0/22 dev lan0 proto kernel scope link src 10.41.0.1\n198.51.100.0/24 dev wan0 scope link\n";
    let good = seen(with(trees("shares-internet = true"), &[("listing/ip-route", default)]));
    let walk = good.walked("10.41.1.7", "10.73.16.9", "https");
    assert!(walk.works(), "{walk:#?}");
    let route = walk.there.hops.iter().find(|hop| hop.aspect == Aspect::Route).expect("a route");
    assert_eq!(route.decided.as_ref().and_then(|(_, line)| line.as_deref()), Some("default via 198.51.100.1 dev wan0"));
    let without = default.lines().skip(1).collect::<Vec<_>>().join("\n");
    let bad = seen(with(trees("shares-internet = true"), &[("listing/ip-route", &without)]));
    let (says, _, remedy) = bad.stop("https").expect("it stops");
    assert_eq!(says, "no route leads to 10.73.16.9, not even a default one");
    assert_eq!(remedy, "Set a default route: the selectors see only what is routed.");
}

/// The longest prefix decides, whichever way it leads.
#[test]
fn a_longer_route_leads_past_the_tunnel() {
    let listed = "default via 198.51.100.1 dev wan0\n10.73.16.0/20 dev us-harvest metric 10\n10.73.16.8/29 dev lan1\n";
    let seen = seen(with(trees("style = \"route-based\""), &[("listing/ip-route", listed)]));
    let walk = seen.walked("10.41.1.7", "10.73.16.9", "https");
    let route = walk.there.hops.iter().find(|hop| hop.aspect == Aspect::Route).expect("a route");
    assert!(route.says.starts_with("10.73.16.8/29 into lan1"), "{}", route.says);
    assert!(!walk.works());
}

/// A listing counts, whatever the files would load at the next boot.
#[test]
fn a_listing_stands_for_the_files() {
    let trees = with(trees("shares-internet = true"), &[("listing/nft", "table inet empty {\n}\n")]);
    let (gateway, findings) = known::read_as(known::platform_of(&trees[0]), &trees[0]);
    assert!(gateway.nat.is_empty() && gateway.filter.is_none() && findings.is_empty(), "{findings:#?}");
}

/// Variables and chains that stand for each other come to an end.
#[test]
fn what_grows_without_end_is_given_up() {
    let mut bombs = "define a0 = { 10.0.0.0/8, 172.16.0.0/12 }\n".to_owned();
    for n in 1..60 {
        bombs += &format!("define a{n} = {{ $a{0}, $a{0} }}\n", n - 1);
    }
    bombs += "table ip x {\n chain forward { type filter hook forward priority 0; policy drop; ip saddr $a59 accept; jump a; jump b; }\n";
    bombs += " chain a { jump b; jump b; jump b; }\n chain b { jump a; jump a; jump a; }\n}\n";
    let seen = seen(with(trees(""), &[("etc/nftables.conf", &bombs)]));
    assert_eq!(seen.findings.len(), 1, "{:#?}", seen.findings);
    assert!(seen.walked("10.41.1.7", "10.73.16.9", "ssh").there.hops.iter().any(|hop| !hop.unsure.is_empty()));
}

#[test]
fn listed_routes_steer_into_the_tunnel() {
    let listed = "default via 198.51.100.1 dev wan0 \n10.41.0.0/22 dev lan0 proto kernel scope link src 10.41.0.1 \nblackhole 10.73.16.0/20 metric 4096 \n10.73.16.0/20 dev us-harvest scope link metric 10 \n";
    let seen = seen(with(trees("style = \"route-based\""), &[("listing/ip-route", listed)]));
    let walk = seen.walked("10.41.1.7", "10.73.16.9", "https");
    assert!(walk.works(), "{walk:#?}");
    let route = walk.there.hops.iter().find(|hop| hop.aspect == Aspect::Route).expect("a route");
    assert_eq!(route.decided.as_ref().and_then(|(_, line)| line.as_deref()), Some("10.73.16.0/20 dev us-harvest scope link metric 10"));
}

/// The rules that masquerade: what each asks, and how many statements are not understood.
fn masquerading(path: &str, text: &str) -> (Vec<Vec<What>>, usize) {
    let mut tree = Tree::default();
    tree.add(path, TreeFile::public(text.to_owned()));
    let (gateway, findings) = known::read_as(known::platform("strongswan"), &tree);
    let rules = gateway.ruleset.chains.iter().flat_map(|chain| &chain.rules).filter(|rule| rule.action == Action::Masquerade);
    (rules.map(|rule| rule.tests.iter().map(|test| test.what.clone()).collect()).collect(), findings.len())
}

#[test]
fn masquerading_in_both_dialects_and_in_listings_with_counters() {
    let into = |name: &str| What::Into(vec![name.to_owned()]);
    let table = |rule: &str| {
        format!("table ip nat {{\n chain post {{\n  type nat hook postrouting priority srcnat; policy accept;\n  {rule}\n }}\n}}\n")
    };
    let counted = table("oifname \"wan0\" counter packets 7 bytes 420 masquerade");
    assert_eq!(masquerading("etc/nftables.conf", &counted), (vec![vec![into("wan0")]], 0));
    let saved = "*nat\n-A POSTROUTING -o eth0 -j MASQUERADE\nCOMMIT\n";
    assert_eq!(masquerading("etc/iptables/rules.v4", saved), (vec![vec![into("eth0")]], 0));
    let from = What::Source(vec!["10.41.0.0/22".parse().expect("a network")].into());
    let some = table("oifname wan0 ip saddr 10.41.0.0/22 masquerade # all");
    assert_eq!(masquerading("etc/nftables.conf", &some), (vec![vec![into("wan0"), from]], 0));
    // A condition that is not understood is named, and nobody knows whether it holds.
    let odd = table("oifname \"wan0\" ip daddr != @private masquerade");
    assert_eq!(masquerading("etc/nftables.conf", &odd), (vec![vec![into("wan0"), What::Other]], 1));
    assert_eq!(masquerading("etc/nftables.conf", "# masquerade everything\n"), (vec![], 0));
}
