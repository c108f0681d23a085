//! What may cross and what may not: pairs that are not carried, selectors with a protocol and ports, networks behind one address.

use crate::known::{actor, context, platform, read_as};
use uspan_core::*;

/// A description of two or three sites; the keys of tunnels come last.
fn described(platforms: [&str; 2], site: &str, tunnels: &str) -> (Description, Vec<Finding>) {
    let text = format!(
        "unified-span = 1\n[site.packhouse]\nplatform = \"{}\"\n\
         gateway = {{ address = \"198.51.100.20\", outside = \"wan0\", inside = \"lan0\" }}\n\
         networks = {{ office = \"10.1.0.0/22\", guests = \"10.1.8.0/24\" }}\n{site}\n\
         [site.coldstore]\nplatform = \"{}\"\ngateway = {{ address = \"203.0.113.77\", outside = \"eth0\", inside = \"eth1\" }}\n\
         networks = {{ racks = \"10.2.0.0/22\", cameras = \"10.2.8.0/24\" }}\n\
         [site.press]\nplatform = \"strongswan\"\ngateway = {{ address = \"192.0.2.9\", outside = \"wan0\", inside = \"lan0\" }}\n\
         networks = {{ hall = \"10.2.9.0/24\" }}\n{tunnels}\n",
        platforms[0], platforms[1]
    );
    Description::parse(&Source::new("selectors.span.toml", text.as_str()), context())
}

fn built(description: &Description) -> Build {
    let secret = Secret::new(b"Kq8vT2mXr0ZpL4nWc7YbD1sHfJ6gUeA9tRoEiNvB3xM".to_vec());
    let file = SecretFile::Read { secret, guesses_log10: 40.0, drawn: true, exposed: false };
    build(description, &Supplied { secrets: [("k".to_owned(), file)].into(), ..Supplied::default() })
}

fn harvest(keys: &str) -> String {
    format!("[tunnel.harvest]\nbetween = [\"packhouse\", \"coldstore\"]\nsecret = {{ file = \"k\" }}\n{keys}\n")
}

const PARTLY: &str = "carries = [[\"office\", \"racks\"]]";

/// What a gateway's filter drops between two networks, whatever it is.
fn drops(gateway: &Gateway, from: &str, to: &str) -> bool {
    let packet = Packet {
        hook: Hook::Forward,
        from: from.parse().expect("a prefix"),
        to: to.parse().expect("a prefix"),
        protection: Protection::Any,
        traffic: Traffic::Any,
    };
    gateway.filter.as_ref().is_some_and(|filter| filter.verdict(&packet) == Some(Verdict::Drop))
}

#[test]
fn what_is_not_carried_is_dropped_at_both_gateways() {
    for filter in ["", "packet-filter = \"iptables\"", "filter = \"joined\"", "style = \"route-based\""] {
        let (description, findings) = described(["strongswan", "libreswan"], filter, &harvest(PARTLY));
        assert_eq!(findings, []);
        let built = built(&description);
        assert!(!any_stops(&built.findings), "{:#?}", built.findings);
        let [packhouse, coldstore] = &built.tunnels[0].gateways;
        for (own, other) in [("10.1.0.0/22", "10.2.8.0/24"), ("10.1.8.0/24", "10.2.0.0/22"), ("10.1.8.0/24", "10.2.8.0/24")] {
            assert!(drops(packhouse, own, other) && drops(packhouse, other, own), "{filter}: {own} {other}");
            assert!(drops(coldstore, own, other) && drops(coldstore, other, own), "{filter}: {own} {other}");
        }
        assert_eq!(built.tunnels[0].uncarried.len(), 3);
        assert_eq!(built.tunnels[0].fate_of_uncarried(0), "dropped");
        assert_eq!(
            built.tunnels[0].unreached,
            [vec![("guests".to_owned(), "10.1.8.0/24".parse().expect("a prefix"))], {
                vec![("cameras".to_owned(), "10.2.8.0/24".parse().expect("a prefix"))]
            }]
        );
    }
}

#[test]
fn what_another_path_may_carry_is_left_alone() {
    // Said so.
    let (description, findings) = described(["strongswan", "libreswan"], "", &harvest(&format!("{PARTLY}\nnot-carried = \"left-alone\"")));
    assert_eq!(findings, []);
    let alone = built(&description);
    assert!(!drops(&alone.tunnels[0].gateways[0], "10.1.8.0/24", "10.2.8.0/24"));
    assert_eq!(alone.tunnels[0].fate_of_uncarried(0), "left to other routes");
    // Another tunnel of the same site has a part of it: the hall of the press lies in what follows the cameras.
    let other = "[tunnel.second]\nbetween = [\"packhouse\", \"press\"]\nsecret = { file = \"k\" }\ncarries = [[\"guests\", \"hall\"]]\n";
    let wider = harvest(PARTLY).replace("[tunnel", "[site.farm]\nplatform = \"openiked\"\ngateway = { address = \"192.0.2.77\", outside = \"e\", inside = \"i\" }\nnetworks = { all = \"10.2.0.0/16\", few = \"10.3.0.0/24\" }\n[tunnel");
    let farm = "[tunnel.third]\nbetween = [\"packhouse\", \"farm\"]\nsecret = { file = \"k\" }\ncarries = [[\"office\", \"few\"]]\n";
    let (description, findings) = described(["strongswan", "libreswan"], "", &format!("{wider}{other}{farm}"));
    assert_eq!(findings, []);
    let third = description.tunnels.iter().find(|tunnel| tunnel.name.value == "third").expect("there");
    // Of 10.2.0.0/16 other tunnels carry a part for both networks of the packhouse; of 10.3.0.0/24 nothing for its guests.
    let net = |text: &str| text.parse::<ipnet::IpNet>().expect("a prefix");
    let dropped = |end: usize| -> Vec<_> {
        let all = uncarried(&description, third).into_iter().filter(|pair| pair.dropped[end]);
        all.map(|pair| (pair.prefixes[end], pair.prefixes[1 - end])).collect()
    };
    assert_eq!(dropped(0), [(net("10.1.8.0/24"), net("10.3.0.0/24"))]);
    // The farm itself has no other tunnel.
    assert_eq!(dropped(1).len(), 3);
}

#[test]
fn too_many_pairs_to_drop_are_told() {
    let nets = |byte: u8| (0..40).map(|n| format!("n{n} = \"10.{byte}.{n}.0/24\"")).collect::<Vec<_>>().join(", ");
    let text = format!(
        "unified-span = 1\n[site.a]\nplatform = \"strongswan\"\ngateway = {{ address = \"198.51.100.20\", outside = \"w\", inside = \"l\" }}\n\
         networks = {{ {} }}\n[site.b]\nplatform = \"strongswan\"\ngateway = {{ address = \"203.0.113.77\", outside = \"w\", inside = \"l\" }}\n\
         networks = {{ {} }}\n[tunnel.t]\nbetween = [\"a\", \"b\"]\nsecret = {{ file = \"k\" }}\ncarries = [[\"n1\", \"n1\"]]\n",
        nets(41),
        nets(42)
    );
    let (description, findings) = Description::parse(&Source::new("many.span.toml", text.as_str()), context());
    assert_eq!(findings, []);
    let found = built(&description);
    let told = found.findings.iter().find(|finding| finding.rule.code == "US338").expect("told");
    assert!(told.message.starts_with("1599 pairs"), "{}", told.message);
    assert_eq!(found.tunnels[0].fate_of_uncarried(1), "left to other routes");
}

const LIMIT: &str = "limited-to = { protocol = \"tcp\", ports = { coldstore = 443 } }";

#[test]
fn selectors_are_limited_to_a_protocol_and_ports_on_every_platform() {
    for one in ["strongswan", "libreswan", "openiked", "other"] {
        for other in ["strongswan", "libreswan", "openiked"] {
            let sites = if one == "other" { "as-number = 65001" } else { "" };
            // One pair, which all of them can carry.
            let (description, findings) = described([one, other], sites, &harvest(&format!("{PARTLY}\n{LIMIT}")));
            assert_eq!(findings, []);
            let built = built(&description);
            assert!(!any_stops(&built.findings), "{one} {other}: {:#?}", built.findings);
            let children = [0, 1].map(|end| &built.tunnels[0].gateways[end].connections[0].children[0]);
            assert_eq!(children.map(|child| child.protocol.value), [Some(6), Some(6)]);
            assert_eq!(children.map(|child| child.ports.value), [[None, Some(443)], [Some(443), None]]);
            if one == "other" {
                continue;
            }
            // A packet of it arrives, another one does not.
            let gateways = built.tunnels[0].gateways.each_ref();
            let walker = |end: usize| Walker {
                actor: actor(
                    ReadGateway { name: ["packhouse", "coldstore"][end], gateway: gateways[end], ends_open: false, tree: None },
                    platform([one, other][end]),
                ),
                inside: &[],
                shares_internet: Some(false),
                networks: &[],
            };
            let to = |from: &str, to: &str, service: &str| {
                let traffic = uspan_core::service(service).expect("a service").remove(0);
                let flow = Flow { from: from.parse().expect("an address"), to: to.parse().expect("an address"), traffic };
                walk([walker(0), walker(1)], &flow).is_some_and(|walked| walked.works())
            };
            assert!(to("10.1.0.9", "10.2.0.9", "https"), "{one} {other}");
            assert!(!to("10.1.0.9", "10.2.0.9", "http") && !to("10.1.0.9", "10.2.0.9", "ping"), "{one} {other}");
            assert!(!to("10.2.0.9", "10.1.0.9", "https"), "{one} {other}");
        }
    }
}

#[test]
fn limits_that_do_not_fit_are_told() {
    for (keys, message) in [
        ("limited-to = { protocol = \"tpc\" }", "selectors are not limited to `tpc` here"),
        ("limited-to = { protocol = \"132\" }", "selectors are not limited to `132` here"),
        ("limited-to = { protocol = \"icmp\", ports = { coldstore = 7 } }", "`icmp` has no ports"),
        ("limited-to = { protocol = \"tcp\", ports = { coldstore = 0 } }", "a port is between 1 and 65535"),
        (
            "limited-to = { protocol = \"udp\", ports = { packhouse = 123, coldstore = 123 } }",
            "a port at each site: whoever opens a connection takes some other port for it, and would find no SA",
        ),
        ("limited-to = { protocol = \"tcp\" }\nservices = [\"https\"]", "`services` beside `limited-to`, which says it already"),
        ("limited-to = { protocol = \"tcp\" }\ncarrier = \"gre\"", "`carrier` beside `limited-to`: the selectors name GRE alone"),
    ] {
        let (_, findings) = described(["strongswan", "strongswan"], "", &harvest(keys));
        assert_eq!(findings.iter().map(|one| (one.rule.code, one.message.as_str())).collect::<Vec<_>>(), [("US339", message)]);
    }
    let (_, findings) =
        described(["strongswan", "strongswan"], "", &harvest("limited-to = { protocol = \"tcp\" }\ncarries = \"gateways\""));
    assert_eq!(findings[0].rule.code, "US339");
}

#[test]
fn a_limit_is_adopted_and_what_is_not_carried_stays_as_it_is() {
    let (description, _) = described(["libreswan", "openiked"], "", &harvest(&format!("{PARTLY}\n{LIMIT}\nnot-carried = \"left-alone\"")));
    let built = built(&description);
    assert!(!any_stops(&built.findings), "{:#?}", built.findings);
    let read: Vec<Gateway> = ["packhouse", "coldstore"]
        .iter()
        .zip(["libreswan", "openiked"])
        .map(|(name, on)| read_as(platform(on), &built.trees[*name]).0)
        .collect();
    let adoptee = |end: usize| Adoptee {
        reading: ReadGateway { name: ["packhouse", "coldstore"][end], gateway: &read[end], ends_open: false, tree: None },
        facts: platform(["libreswan", "openiked"][end]),
    };
    let adopted = adopt([adoptee(0), adoptee(1)]);
    assert!(adopted.text.contains("limited-to = { protocol = \"6\", ports = { coldstore = 443 } }"), "{}", adopted.text);
}

#[test]
fn all_of_a_network_stands_behind_one_address() {
    for (filter, style) in [("nftables", ""), ("nftables", "style = \"route-based\""), ("iptables", "style = \"route-based\"")] {
        let site = format!("packet-filter = \"{filter}\"\nshares-internet = true\n{style}");
        let keys = format!("{PARTLY}\nappears-as = {{ packhouse = {{ office = \"10.99.7.1/32\" }} }}");
        let (description, findings) = described(["strongswan", "libreswan"], &site, &harvest(&keys));
        assert_eq!(findings, []);
        let built = built(&description);
        assert!(!any_stops(&built.findings), "{filter}: {:#?}", built.findings);
        let [packhouse, coldstore] = &built.tunnels[0].gateways;
        let to = NatTarget::SourceTo("10.99.7.1".parse().expect("an address"));
        assert!(packhouse.nat.iter().any(|rule| rule.target == to) && !packhouse.nat.iter().any(NatRule::before_routing));
        assert_eq!([packhouse.hosts_may_open(), coldstore.hosts_may_open()], [Passing::All, Passing::Only(Vec::new())]);
    }
    // Nobody is reached behind it.
    for (keys, wrong) in [("one-way = \"packhouse\"", false), ("one-way = \"coldstore\"", true), ("services = [\"https\"]", true)] {
        let keys = format!("{PARTLY}\nappears-as = {{ packhouse = {{ office = \"10.99.7.1/32\" }} }}\n{keys}");
        let (_, findings) = described(["strongswan", "libreswan"], "", &harvest(&keys));
        assert_eq!(findings.iter().any(|finding| finding.rule.code == "US323"), wrong, "{keys}: {findings:?}");
    }
}

#[test]
fn pairs_travel_as_the_description_says() {
    let children = |platforms: [&str; 2], keys: &str| {
        let (description, findings) = described(platforms, "", &harvest(keys));
        assert_eq!(findings, []);
        let built = built(&description);
        match built.tunnels.as_slice() {
            [tunnel] => Ok(tunnel.gateways[0].connections[0].children.len()),
            _ => Err(built.findings.iter().find(|finding| finding.rule.severity == Severity::Error).map(|finding| finding.rule.code)),
        }
    };
    let swan = ["strongswan", "strongswan"];
    assert_eq!(children(swan, ""), Ok(4));
    assert_eq!(children(swan, "esp-sas = \"per-pair\""), Ok(4));
    assert_eq!(children(swan, "esp-sas = \"together\""), Ok(1));
    assert_eq!(children(["strongswan", "openiked"], "esp-sas = \"together\""), Ok(1));
    let refused = Err(Some("US603"));
    assert_eq!(children(["strongswan", "openiked"], "esp-sas = \"per-pair\""), refused);
    assert_eq!(children(["strongswan", "libreswan"], "esp-sas = \"together\""), refused);
    assert_eq!(children(swan, "esp-sas = \"together\"\nversion = \"ikev1\"\nstrength = \"common\""), refused);
    let some = "carries = [[\"office\", \"racks\"], [\"guests\", \"cameras\"]]\nesp-sas = \"together\"";
    assert_eq!(children(swan, some), refused);
    // One pair travels alone, whatever is said.
    assert_eq!(children(["strongswan", "libreswan"], &format!("{PARTLY}\nesp-sas = \"together\"")), Ok(1));
}

#[test]
fn lists_of_selectors_are_adopted_as_such() {
    let (description, _) = described(["strongswan", "strongswan"], "", &harvest("esp-sas = \"together\""));
    let built = built(&description);
    let read = ["packhouse", "coldstore"].map(|name| read_as(platform("strongswan"), &built.trees[name]).0);
    let adoptee = |end: usize| Adoptee {
        reading: ReadGateway { name: ["packhouse", "coldstore"][end], gateway: &read[end], ends_open: false, tree: None },
        facts: platform("strongswan"),
    };
    let adopted = adopt([adoptee(0), adoptee(1)]);
    assert!(adopted.text.contains("esp-sas = \"together\""), "{}", adopted.text);
}
