//! Everything through a site: routes of a network's own, who translates, what is dropped; and tunnels whose selectors would be equal.

use crate::known::{actor, context, platform, read_as};
use uspan_core::*;

/// Three sites: `market` sends through `packhouse`, and has a tunnel of its own to `press`.
fn text(platforms: [&str; 2], hub: &str, tunnel: &str) -> String {
    format!(
        "unified-span = 1\n[site.packhouse]\nplatform = \"{}\"\ngateway = {{ address = \"198.51.100.20\", outside = \"wan0\", inside = \"lan0\" }}\n\
         networks = {{ office = \"10.1.0.0/22\" }}\nstyle = \"route-based\"\n{hub}\n\
         [site.market]\nplatform = \"{}\"\ngateway = {{ address = \"203.0.113.77\", outside = \"eth0\", inside = \"eth1\" }}\n\
         networks = {{ stalls = \"10.2.0.0/22\", guests = \"10.2.8.0/24\" }}\nstyle = \"route-based\"\nshares-internet = true\n\
         [site.press]\nplatform = \"strongswan\"\ngateway = {{ address = \"192.0.2.9\", outside = \"wan0\", inside = \"lan0\" }}\n\
         networks = {{ hall = \"10.3.0.0/22\" }}\nstyle = \"route-based\"\n\
         [tunnel.through]\nbetween = [\"packhouse\", \"market\"]\nsecret = {{ file = \"k\" }}\n{tunnel}\n\
         [tunnel.beside]\nbetween = [\"press\", \"market\"]\nsecret = {{ file = \"k2\" }}\ncarries = [[\"hall\", \"stalls\"]]\n",
        platforms[0], platforms[1]
    )
}

const SHARED: &str = "shares-internet = true";
const ALL_OF_STALLS: &str = "carries = [[\"everything\", \"stalls\"]]";

fn parsed(text: &str) -> (Description, Vec<Finding>) {
    Description::parse(&Source::new("everything.span.toml", text), context())
}

fn built(description: &Description) -> Build {
    let file =
        |text: &str| SecretFile::Read { secret: Secret::new(text.as_bytes().to_vec()), guesses_log10: 40.0, drawn: true, exposed: false };
    let secrets = [
        ("k".to_owned(), file("Kq8vT2mXr0ZpL4nWc7YbD1sHfJ6gUeA9tRoEiNvB3xM")),
        ("k2".to_owned(), file("another one, as long as that, drawn")),
    ];
    build(description, &Supplied { secrets: secrets.into(), ..Supplied::default() })
}

fn sound(text: &str) -> (Description, Build) {
    let (description, findings) = parsed(text);
    assert_eq!(findings, []);
    let built = built(&description);
    assert!(!any_stops(&built.findings), "{:#?}", built.findings);
    (description, built)
}

/// Codes and messages that stop a description.
fn stops(text: &str) -> Vec<(&'static str, String)> {
    let (description, mut findings) = parsed(text);
    if !any_stops(&findings) {
        findings.extend(built(&description).findings);
    }
    findings
        .into_iter()
        .filter(|finding| finding.rule.severity == Severity::Error)
        .map(|finding| (finding.rule.code, finding.message))
        .collect()
}

fn net(text: &str) -> ipnet::IpNet {
    text.parse().expect("a prefix")
}

#[test]
fn a_network_has_a_default_route_of_its_own_and_its_gateway_keeps_the_other() {
    let (_, built) = sound(&text(["libreswan", "strongswan"], SHARED, ALL_OF_STALLS));
    let [packhouse, market] = &built.tunnels[0].gateways;
    let routes: Vec<_> = market.routes.iter().map(|route| (route.to, route.from, route.through == Through::BlackHole)).collect();
    let (all, stalls) = (net("0.0.0.0/0"), Some(net("10.2.0.0/22")));
    assert_eq!(routes, [(all, stalls, false), (all, stalls, true)]);
    assert_eq!(market.crossing().into_iter().collect::<Vec<_>>(), [(net("10.2.0.0/22"), all)]);
    assert!(packhouse.routes.iter().all(|route| route.to == net("10.2.0.0/22") && route.from.is_none()));
    // The hub translates what goes on to the internet, as all that leaves: no rule of the tunnel keeps its source.
    let kept: Vec<_> = packhouse.nat.iter().map(|rule| (rule.from, rule.to)).collect();
    assert_eq!(kept, [(all, net("10.2.0.0/22"))]);
    // In clear nothing of the network leaves for the internet; through other interfaces it may.
    let verdict = |protection| {
        let packet = Packet { hook: Hook::Forward, from: net("10.2.0.9/32"), to: net("192.0.2.80/32"), protection, traffic: Traffic::Any };
        market.filter.as_ref().and_then(|filter| filter.verdict(&packet))
    };
    assert_eq!(verdict(Protection::Into("eth0".to_owned())), Some(Verdict::Drop));
    assert_eq!(verdict(Protection::Into("us-through".to_owned())), Some(Verdict::Accept));
    assert_eq!(verdict(Protection::Into("us-beside".to_owned())), None);
    // The hub's own network is a part of everything.
    assert_eq!(built.tunnels[0].unreached[0], []);
    assert_eq!(built.tunnels[0].unreached[1][0].0, "guests");
    let uncarried: Vec<_> = built.tunnels[0].uncarried.iter().map(|pair| pair.names.clone()).collect();
    assert_eq!(uncarried, [["office".to_owned(), "guests".to_owned()]]);
}

#[test]
fn a_packet_to_the_internet_goes_through_the_hub_and_its_answer_comes_back() {
    let (description, built) = sound(&text(["libreswan", "strongswan"], SHARED, ALL_OF_STALLS));
    let known: Vec<Vec<KnownNetwork>> = (0..2)
        .map(|end| {
            let networks = description.sites[end].networks.iter();
            networks.map(|network| KnownNetwork { net: network.prefix.value, beyond: network.beyond.is_some() }).collect()
        })
        .collect();
    let tunnel = &built.tunnels[0];
    let walker = |end: usize| Walker {
        actor: actor(
            ReadGateway { name: &tunnel.ends[end], gateway: &tunnel.gateways[end], ends_open: end == 0, tree: None },
            platform(["libreswan", "strongswan"][end]),
        ),
        inside: &[],
        shares_internet: Some(true),
        networks: &known[end],
    };
    let walked = |from: &str, to: &str| {
        let at = |text: &str| text.parse().expect("an address");
        walk([walker(0), walker(1)], &Flow { from: at(from), to: at(to), traffic: Traffic::Ping }).expect("of these two")
    };
    let told = |walk: &Walk| walk.there.hops.iter().map(|hop| hop.says.clone()).collect::<Vec<_>>().join("\n");
    let out = walked("10.2.0.9", "192.0.2.80");
    assert!(out.works(), "{out:#?}");
    assert!(told(&out).contains("it leaves for the internet\nno exemption is for it: its source becomes 198.51.100.20"), "{}", told(&out));
    let near = walked("10.2.0.9", "10.1.0.9");
    assert!(near.works() && told(&near).ends_with("at the host 10.1.0.9"), "{}", told(&near));
    assert!(walked("10.1.0.9", "10.2.0.9").works());
}

#[test]
fn what_is_read_back_of_two_gateways_says_everything() {
    let (description, built) = sound(&text(["strongswan", "libreswan"], SHARED, ALL_OF_STALLS));
    let trees = [&built.trees["packhouse"], &built.trees["market"]];
    let read: Vec<_> = [0, 1].map(|end| read_as(&description.sites[end].platform.value, trees[end]).0).into_iter().collect();
    let adoptee = |end: usize| Adoptee {
        reading: ReadGateway { name: ["packhouse", "market"][end], gateway: &read[end], ends_open: end == 1, tree: Some(trees[end]) },
        facts: &description.sites[end].platform.value,
    };
    let adopted = adopt([adoptee(0), adoptee(1)]);
    assert!(adopted.text.contains("carries = [[\"everything\", \"stalls\"]]"), "{}", adopted.text);
    assert!(!adopted.text.contains("0.0.0.0/0"), "{}", adopted.text);
}

#[test]
fn what_does_not_fit_with_everything_is_told() {
    let both = ["strongswan", "strongswan"];
    // The hub's selectors name what goes to the member; the member's would name what stays.
    let hub = text(both, SHARED, ALL_OF_STALLS).replacen("style = \"route-based\"", "", 1);
    assert_eq!(stops(&hub), []);
    let steered = text(both, SHARED, ALL_OF_STALLS).replace("style = \"route-based\"", "");
    assert_eq!(stops(&steered), [("US334", "`market` is policy-based, and everything is to be reached through a hub".to_owned())]);
    for (tunnel, code, message) in [
        ("carries = [[\"everything\", \"everything\"]]", "US304", "everything at both ends: one of them must be a network"),
        ("carries = [[\"office\", \"everything\"], [\"everything\", \"nobody\"]]", "US304", "site `market` has no network `nobody`"),
        (
            "carries = [[\"everything\", \"stalls\"]]\nrouting = \"bgp\"\nlink = \"10.255.0.0/31\"",
            "US334",
            "`everything` beside `routing = \"bgp\"`: a default route that is learned takes IKE and ESP, too",
        ),
        (
            "carries = [[\"everything\", \"stalls\"]]\nappears-as = { market = { stalls = \"10.99.0.0/22\" } }",
            "US323",
            "`stalls` appears as another, and is carried to everything: whatever it sends would be translated",
        ),
    ] {
        let found = stops(&text(both, SHARED, tunnel));
        assert!(found.contains(&(code, message.to_owned())), "{tunnel}: {found:#?}");
    }
    let taken = text(both, SHARED, ALL_OF_STALLS).replace("guests =", "everything =");
    assert_eq!(stops(&taken)[0].0, "US109");
    // Nobody would answer a private address.
    let (_, built) = sound(&text(both, "", ALL_OF_STALLS));
    assert!(built.findings.iter().any(|finding| finding.rule.code == "US342"), "{:#?}", built.findings);
}

#[test]
fn a_default_route_goes_to_one_site() {
    let twice =
        text(["strongswan", "strongswan"], SHARED, ALL_OF_STALLS).replace("[[\"hall\", \"stalls\"]]", "[[\"everything\", \"stalls\"]]");
    let found = stops(&twice);
    assert_eq!(found.iter().map(|(code, _)| *code).collect::<Vec<_>>(), ["US306"]);
}

#[test]
fn a_daemon_with_one_connection_of_the_same_selectors_gets_the_exact_pairs() {
    let children = |platforms, tunnel: &str| {
        let (_, built) = sound(&text(platforms, SHARED, tunnel));
        let children = &built.tunnels[0].gateways[1].connections[0].children;
        children.iter().map(|child| (child.local.value.clone(), child.remote.value.clone())).collect::<Vec<_>>()
    };
    let (all, stalls) = (vec![net("0.0.0.0/0")], vec![net("10.2.0.0/22")]);
    assert_eq!(children(["strongswan", "strongswan"], ALL_OF_STALLS), [(all.clone(), all.clone())]);
    // One tunnel at its gateway is alone.
    assert_eq!(children(["libreswan", "strongswan"], ALL_OF_STALLS), [(all.clone(), all.clone())]);
    assert_eq!(children(["strongswan", "libreswan"], ALL_OF_STALLS), [(stalls, all)]);
    // Interfaces with addresses send each other packets, too.
    let linked = children(["strongswan", "libreswan"], &format!("{ALL_OF_STALLS}\nlink = \"10.255.0.0/31\""));
    assert_eq!(linked[1], (vec![net("10.255.0.1/32")], vec![net("10.255.0.0/32")]));
}

#[test]
fn equal_selectors_to_different_peers_are_seen_in_files() {
    let conn = |name: &str, peer: &str, remote: &str| {
        format!(
            "conn {name}\n\tleft=198.51.100.20\n\tright={peer}\n\tleftsubnet=10.1.0.0/22\n\trightsubnet={remote}\n\tauthby=secret\n\
             \tikev2=insist\n\tauto=add\n\n"
        )
    };
    let found = |second: &str| {
        let text = conn("a", "203.0.113.77", "10.2.0.0/22") + &conn("b", "203.0.113.78", second);
        let (_, findings) = read_as(platform("libreswan"), &Tree::of("etc/ipsec.conf", &text));
        findings.into_iter().filter(|finding| finding.rule.code == "US810").map(|finding| finding.message).collect::<Vec<_>>()
    };
    assert_eq!(found("10.2.0.0/22"), ["`a` and `b` carry the same to different peers: whichever comes up second has no SA"]);
    assert_eq!(found("10.3.0.0/22"), [] as [&str; 0]);
}
