//! The net under the build: what is spoilt on one end is found, and what a platform cannot say it refuses.

use crate::known;
use std::time::Duration;

use uspan_core::algorithm::{Kind, Transform, named};
use uspan_core::*;

const DEMO: &str = include_str!("../../demo/orchard.span.toml");

fn built(text: &str) -> [Gateway; 2] {
    let (description, findings) = Description::parse(&Source::new("orchard.span.toml", text), known::context());
    assert!(findings.is_empty(), "{findings:#?}");
    let secret = Secret::new(b"not a real secret, only for this test".to_vec());
    let file = SecretFile::Read { secret, guesses_log10: 40.0, drawn: true, exposed: false };
    let supplied = Supplied { secrets: [("secrets/harvest.key".to_owned(), file)].into(), ..Supplied::default() };
    build(&description, &supplied).tunnels[0].gateways.clone()
}

fn demo() -> [Gateway; 2] {
    built(DEMO)
}

/// What is found between two ends, where they stand in the demo.
fn found(one: &Gateway, other: &Gateway) -> Vec<&'static str> {
    // Where the two stand, whatever their files say.
    let [own, peer] = [[198, 51, 100, 20], [203, 0, 113, 77]].map(|address| Endpoint::At(address.into()));
    let end =
        |name, gateway, at: &Endpoint| End { name, gateway, own: at.clone(), reached: at.clone(), shares_internet: true, is_ours: true };
    cross_check(end("packhouse", one, &own), end("coldstore", other, &peer)).iter().map(|finding| finding.rule.code).collect()
}

/// Spoils the first end and returns the codes that are found.
fn spoilt(spoil: impl Fn(&mut Gateway)) -> Vec<&'static str> {
    let [mut one, other] = demo();
    spoil(&mut one);
    found(&one, &other)
}

macro_rules! spoilt {
    ($($name:ident: $spoil:expr => $codes:expr;)*) => {
        $(#[test]
        fn $name() {
            assert_eq!(spoilt($spoil), $codes);
        })*
    };
}

fn connection(gateway: &mut Gateway) -> &mut Connection {
    &mut gateway.connections[0]
}

fn child(gateway: &mut Gateway) -> &mut Child {
    &mut gateway.connections[0].children[0]
}

fn rules(gateway: &mut Gateway) -> &mut Vec<FilterRule> {
    &mut gateway.filter.as_mut().expect("a filter").rules
}

spoilt! {
    nothing_is_found_in_a_pair_that_fits: |_| {} => [""; 0];
    another_version: |g| connection(g).ike_mut().exchange.value = Exchange::V1Main => ["US711"];
    transport_mode_on_one_end: |g| child(g).mode.value = Mode::Transport => ["US711"];
    another_hash: |g| connection(g).ike_mut().proposals.value[1].set(Kind::Integrity, [named(Kind::Integrity, "sha2-256")]) => ["US702"];
    another_order: |g| connection(g).ike_mut().proposals.value.swap(0, 1) => ["US702"];
    no_ike_proposal: |g| connection(g).ike_mut().proposals.value.clear() => ["US702"];
    another_pfs_group: |g| child(g).esp.value[0].set(Kind::KeyExchange, [named(Kind::KeyExchange, "ecp-256")]) => ["US703"];
    no_pfs_on_one_end: |g| child(g).esp.value.iter_mut().for_each(|p| p.set(Kind::KeyExchange, [])) => ["US703"];
    another_identity: |g| connection(g).ike_mut().local_identity.value = Identity::Name("press.example.net".to_owned()) => ["US705", "US706"];
    identities_crossed: |g| {
        let c = connection(g);
        let ike = c.ike_mut();
        std::mem::swap(&mut ike.local_identity, &mut ike.remote_identity);
    } => ["US705"];
    another_secret: |g| g.secrets[0].secret = Secret::new(b"another".to_vec()) => ["US706"];
    one_end_signs: |g| connection(g).ike_mut().local_method.value = Method::PublicKey => ["US711", "US713"];
    no_secret: |g| g.secrets.clear() => ["US706"];
    peer_at_another_address: |g| connection(g).remote.value = Endpoint::At([192, 0, 2, 1].into()) => ["US707", "US709", "US709", "US709"];
    exemption_missing: |g| { g.nat.remove(0); } => ["US708"];
    exemption_too_wide: |g| {
        let mut rule = g.nat[0].clone();
        rule.to = "10.0.0.0/8".parse().expect("a net");
        g.nat.push(rule);
    } => ["US708"];
    inbound_filter_missing: |g| rules(g).retain(|r| r.protection != Protection::Arrived) => ["US709", "US709"];
    drop_before_accept: |g| {
        let (from, to) = (rules(g)[2].from, rules(g)[2].to);
        let (hook, protection, traffic, verdict) = (Hook::Forward, Protection::Any, Traffic::Any, Verdict::Drop);
        rules(g).insert(0, FilterRule { hook, from, to, protection, traffic, verdict, place: ReadAt::default() });
    } => ["US709"];
    a_service_that_only_one_end_lets_through: |g| {
        let rule = rules(g).iter_mut().find(|r| r.protection == Protection::Leaving).expect("a rule");
        rule.traffic = Traffic::Replies;
    } => ["US709"];
    a_log_decides_nothing: |g| {
        let mut rule = rules(g)[3].clone();
        rule.verdict = Verdict::Log;
        rules(g).insert(0, rule);
    } => [""; 0];
    esp_not_let_in: |g| rules(g).retain(|r| r.traffic != Traffic::Esp) => ["US709"];
    no_filter_at_all: |g| g.filter = None => ["US709"; 7];
    nobody_opens: |g| connection(g).children.iter_mut().for_each(|c| c.opening.value = Opening::WAIT) => ["US710"];
}

#[test]
fn crossed_selectors_are_found() {
    let codes = spoilt(|g| {
        let c = child(g);
        std::mem::swap(&mut c.local.value, &mut c.remote.value);
    });
    assert!(codes.contains(&"US704"), "{codes:?}");
}

#[test]
fn a_selector_left_out_is_found() {
    let codes = spoilt(|g| drop(connection(g).children.pop()));
    assert!(codes.contains(&"US704") && codes.contains(&"US708"), "{codes:?}");
}

// ---- route-based ends --------------------------------------------------------------------------

/// Two route-based ends; the first is spoilt, and what is found is returned.
fn misrouted(spoil: impl Fn(&mut Gateway)) -> Vec<&'static str> {
    let text = DEMO.replace("shares-internet = true", "shares-internet = true\nstyle = \"route-based\"");
    let [mut one, other] = built(&text);
    assert_eq!((one.connections[0].children[0].local.value[0].prefix_len(), one.crossing().len()), (0, 2));
    spoil(&mut one);
    found(&one, &other)
}

#[test]
fn a_route_based_pair_as_built_is_whole() {
    assert!(misrouted(|_| {}).is_empty());
}

#[test]
fn a_route_without_a_black_hole_behind_it_is_found() {
    assert_eq!(misrouted(|gateway| gateway.routes.retain(|route| route.through != Through::BlackHole)), ["US712"]);
}

#[test]
fn a_black_hole_that_is_preferred_is_found() {
    let swap = |gateway: &mut Gateway| gateway.routes.iter_mut().for_each(|route| route.metric = 4106 - route.metric);
    assert_eq!(misrouted(swap), ["US712"]);
}

#[test]
fn a_network_that_is_not_routed_into_the_tunnel_is_found() {
    // What crosses at one end is not what crosses at the other, and nothing is left to be exempt or to pass.
    let found = misrouted(|gateway| gateway.routes.clear());
    assert!(found.contains(&"US712"), "{found:?}");
}

// ---- GRE between the gateways --------------------------------------------------------------------

/// Two ends of GRE; the first is spoilt, and what is found is returned.
fn unwrapped(spoil: impl Fn(&mut Gateway)) -> Vec<&'static str> {
    let [mut one, other] = built(&DEMO.replace("[tunnel.harvest]", "[tunnel.harvest]\ncarrier = \"gre\""));
    assert_eq!((one.connections[0].children.len(), one.crossing().len()), (1, 2));
    let child = &one.connections[0].children[0];
    assert_eq!(
        (child.mode.value, child.protocol.value, child.local.value[0].to_string()),
        (Mode::Transport, Some(GRE), "198.51.100.20/32".to_owned())
    );
    spoil(&mut one);
    found(&one, &other)
}

#[test]
fn gre_as_built_is_whole() {
    assert!(unwrapped(|_| {}).is_empty());
}

#[test]
fn selectors_without_the_protocol_are_found() {
    assert!(unwrapped(|gateway| child(gateway).protocol.value = None).contains(&"US704"));
}

#[test]
fn gre_to_another_address_is_found() {
    let found = unwrapped(|gateway| {
        gateway.interfaces[0].kind = InterfaceKind::Gre { local: [198, 51, 100, 20].into(), remote: [203, 0, 113, 7].into() };
    });
    assert_eq!(found, ["US704"]);
}

#[test]
fn gre_that_may_leave_or_come_in_clear_is_found() {
    for hook in [Hook::Input, Hook::Output] {
        let found = unwrapped(|gateway| rules(gateway).retain(|rule| rule.hook != hook || rule.verdict != Verdict::Drop));
        assert_eq!(found, ["US709"], "{hook:?}");
    }
}

#[test]
fn the_packet_inside_gre_is_smaller_by_its_header() {
    let [plain, _] = built(&DEMO.replace("shares-internet = true", "shares-internet = true\nstyle = \"route-based\""));
    let [gre, _] = built(&DEMO.replace("[tunnel.harvest]", "[tunnel.harvest]\ncarrier = \"gre\""));
    assert_eq!(gre.interfaces[0].mtu + 4, plain.interfaces[0].mtu);
}

// ---- what the gateways themselves send -----------------------------------------------------------

/// Two hosts; the first is spoilt, and what is found is returned.
fn between_hosts(spoil: impl Fn(&mut Gateway)) -> Vec<&'static str> {
    let [mut one, other] = built(&hosts("services = { packhouse = [\"https\"], coldstore = [\"ping\"] }"));
    spoil(&mut one);
    found(&one, &other)
}

fn hosts(more: &str) -> String {
    DEMO.replace("[tunnel.harvest]", &format!("[tunnel.harvest]\ncarries = \"gateways\"\n{more}"))
}

#[test]
fn hosts_as_built_are_whole_and_in_transport_mode() {
    let [one, _] = built(&hosts(""));
    let pairs: Vec<_> = one.crossing().into_iter().map(|(near, far)| format!("{near} {far}")).collect();
    assert_eq!(pairs, ["198.51.100.20/32 203.0.113.77/32"]);
    assert_eq!((one.connections[0].children[0].mode.value, one.connections[0].children[0].protocol.value), (Mode::Transport, None));
    // Nothing is translated, routed or forwarded, although the site has networks.
    assert!(one.nat.is_empty() && one.routes.is_empty() && one.interfaces.is_empty());
    assert!(rules(&mut one.clone()).iter().all(|rule| rule.hook != Hook::Forward));
    assert!(between_hosts(|_| {}).is_empty());
}

#[test]
fn a_packet_between_hosts_keeps_its_header_and_grows_by_esp_alone() {
    let mtu = |text: &str| {
        let (description, _) = Description::parse(&Source::new("orchard.span.toml", text), known::context());
        agree(&description, &description.tunnels[0]).0.expect("an agreement").inner_mtu
    };
    assert_eq!(mtu(&hosts("")), mtu(DEMO) + 20);
    let six = |text: &str| text.replace("198.51.100.20", "2001:db8:1::20").replace("203.0.113.77", "2001:db8:2::77");
    assert_eq!(mtu(&six(&hosts(""))), mtu(&six(DEMO)) + 40);
}

#[test]
fn hosts_in_tunnel_mode_at_one_end_are_found() {
    assert!(between_hosts(|gateway| child(gateway).mode.value = Mode::Tunnel).contains(&"US711"));
}

#[test]
fn what_may_pass_between_hosts_in_clear_is_found() {
    for hook in [Hook::Input, Hook::Output] {
        let found = between_hosts(|gateway| rules(gateway).retain(|rule| rule.hook != hook || rule.verdict != Verdict::Drop));
        assert_eq!(found, ["US709"], "{hook:?}");
    }
}

#[test]
fn hosts_that_do_not_let_ike_or_esp_out_are_found() {
    for lost in [Traffic::Esp, Traffic::Udp(vec![500, 4500])] {
        let found = between_hosts(|gateway| rules(gateway).retain(|rule| rule.hook != Hook::Output || rule.traffic != lost));
        assert!(!found.is_empty() && found.iter().all(|code| *code == "US709"), "{lost:?}: {found:?}");
    }
}

#[test]
fn a_service_between_hosts_at_one_end_alone_is_found() {
    let https = service("https").expect("known").remove(0);
    let found = between_hosts(|gateway| rules(gateway).retain(|rule| rule.traffic != https));
    assert_eq!(found, ["US709"]);
}

// ---- a routing protocol over the tunnel ----------------------------------------------------------

/// Two ends with a BGP session inside GRE; the first is spoilt, and what is found is returned.
fn misheard(spoil: impl Fn(&mut Gateway)) -> Vec<&'static str> {
    let text = DEMO.replace("[tunnel.harvest]", "[tunnel.harvest]\ncarrier = \"gre\"\nrouting = \"bgp\"\nlink = \"10.255.0.0/31\"");
    let [mut one, other] = built(&text.replace("shares-internet = true", "shares-internet = true\nas-number = 65001"));
    assert_eq!((one.sessions[0].accepts.len(), one.crossing().len()), (other.sessions[0].announces.len(), 2));
    assert!(one.routes.iter().all(|route| route.through == Through::BlackHole && route.metric >> 24 == 0xff));
    spoil(&mut one);
    found(&one, &other)
}

#[test]
fn a_routing_session_as_built_is_whole() {
    assert!(misheard(|_| {}).is_empty());
}

#[test]
fn a_session_with_another_system_or_address_is_found() {
    assert_eq!(misheard(|gateway| gateway.sessions[0].peer_as = 65_009), ["US714"]);
    assert!(misheard(|gateway| gateway.sessions[0].neighbour = [10, 255, 0, 9].into()).contains(&"US714"));
}

#[test]
fn two_routers_of_one_name_are_found() {
    let text = DEMO.replace("[tunnel.harvest]", "[tunnel.harvest]\ncarrier = \"gre\"\nrouting = \"bgp\"\nlink = \"fd00:ff::/126\"");
    let text = text.replace("shares-internet = true", "shares-internet = true\nas-number = 65001");
    let six = [("198.51.100.20", "2001:db8:1::20"), ("203.0.113.77", "2001:db8:2::77"), ("10.41.0.0/22", "2001:db8:41::/64")];
    let text = six.iter().fold(text, |text, (four, six)| text.replace(four, six));
    let text = text.replace("10.41.8.0/24", "2001:db8:42::/64").replace("10.73.16.0/20", "2001:db8:73::/64");
    let [mut one, other] = built(&text);
    let [own, peer] = ["2001:db8:1::20", "2001:db8:2::77"].map(|address| Endpoint::At(address.parse().expect("an address")));
    let codes = |one: &Gateway| -> Vec<_> {
        let end = |name, gateway, at: &Endpoint| End {
            name,
            gateway,
            own: at.clone(),
            reached: at.clone(),
            shares_internet: true,
            is_ours: true,
        };
        cross_check(end("packhouse", one, &own), end("coldstore", &other, &peer)).iter().map(|finding| finding.rule.code).collect()
    };
    assert!(one.sessions[0].router_id.is_some() && codes(&one).is_empty());
    one.sessions[0].router_id = other.sessions[0].router_id;
    assert_eq!(codes(&one), ["US714"]);
}

#[test]
fn a_session_that_says_more_than_the_other_believes_is_found() {
    assert_eq!(misheard(|gateway| gateway.sessions[0].announces.push("10.0.0.0/8".parse().expect("a net"))), ["US714"]);
}

#[test]
fn a_session_that_the_filter_stops_is_found() {
    let found = misheard(|gateway| rules(gateway).retain(|rule| !matches!(rule.traffic, Traffic::To(..))));
    assert_eq!(found, ["US709"]);
}

#[test]
fn a_black_hole_that_is_preferred_to_what_is_learned_is_found() {
    assert_eq!(misheard(|gateway| gateway.routes[0].metric = 4096), ["US712"]);
}

// ---- what a platform cannot say ----------------------------------------------------------------

/// What a platform says to a gateway that is spoilt for it.
fn refusal(word: &str, spoil: impl Fn(&mut Gateway)) -> String {
    let [mut gateway, _] = demo();
    let platform = known::platform(word);
    // As the platform opens at once.
    let children = connection(&mut gateway).children.iter_mut();
    children.for_each(|child| child.opening.value.trap &= platform.opens(OpeningWay::TrapBesideStart));
    spoil(&mut gateway);
    let remarks = Remarks { stem: "harvest".to_owned(), ..Remarks::default() };
    match platform.write(&gateway, &remarks) {
        Ok(_) => "written".to_owned(),
        Err(refused) => refused.into_iter().map(|u| u.what).collect::<Vec<_>>().join("; "),
    }
}

fn several() -> Endpoint {
    Endpoint::OneOf(["203.0.113.77", "203.0.113.78"].map(|at| Endpoint::At(at.parse().expect("an address"))).to_vec())
}

macro_rules! refused {
    ($($name:ident: $platform:literal, $spoil:expr => $says:literal;)*) => {
        $(#[test]
        fn $name() {
            let said = refusal($platform, $spoil);
            assert!(said.contains($says), "{said}");
        })*
    };
}

refused! {
    libreswan_takes_the_demo: "libreswan", |_| {} => "written";
    strongswan_takes_the_demo: "strongswan", |_| {} => "written";
    libreswan_has_no_trap_beside_the_start: "libreswan", |g| child(g).opening.value = Opening::BOTH => "with a trap beside it";
    libreswan_has_one_address: "libreswan", |g| connection(g).remote.value = several() => "one of several addresses";
    openiked_has_one_address: "openiked", |g| { connection(g).children.truncate(1); connection(g).remote.value = several() } => "one of several addresses";
    strongswan_takes_several_addresses: "strongswan", |g| connection(g).remote.value = several() => "written";
    libreswan_has_no_prf_of_its_own: "libreswan", |g| connection(g).ike_mut().proposals.value[1].set(Kind::Prf, [named(Kind::Prf, "sha2-512")]) => "PRF that differs";
    libreswan_has_one_pfs_group: "libreswan", |g| child(g).esp.value[0].set(Kind::KeyExchange, [named(Kind::KeyExchange, "ecp-256")]) => "different PFS groups";
    libreswan_has_one_margin: "libreswan", |g| child(g).lifetime.value.margin = Duration::from_secs(30) => "different rekey margins";
    libreswan_lives_a_day_at_most: "libreswan", |g| connection(g).ike_mut().lifetime.value.hard = Duration::from_secs(86_401) => "over 24 h";
    libreswan_has_one_pair_a_child: "libreswan", |g| child(g).local.value.push("10.9.0.0/16".parse().expect("a net")) => "several selectors";
    libreswan_names_children_after_the_connection: "libreswan", |g| child(g).name = "other".to_owned() => "begin with the connection's name";
    libreswan_mixes_no_families: "libreswan", |g| child(g).local.value = vec!["fd00::/64".parse().expect("a net")] => "another address family";
    libreswan_has_no_curve448: "libreswan", |g| connection(g).ike_mut().proposals.value[0].set(Kind::KeyExchange, [named(Kind::KeyExchange, "curve448")]) => "`curve448` for IKE";
    openiked_has_no_ikev1: "openiked", |g| { connection(g).children.truncate(1); connection(g).ike_mut().exchange.value = Exchange::V1Main } => "IKEv1";
    strongswan_has_no_ml_kem: "strongswan", |g| connection(g).ike_mut().proposals.value[0].set(Kind::KeyExchange, [named(Kind::KeyExchange, "ml-kem-768")]) => "`ml-kem-768` for IKE";
    no_mix_of_modes_strongswan: "strongswan", |g| child(g).esp.value[2].push(named(Kind::Encryption, "aes-256-gcm")) => "combined-mode and other";
    no_mix_of_modes_libreswan: "libreswan", |g| child(g).esp.value[2].push(named(Kind::Encryption, "aes-256-gcm")) => "combined-mode and other";
    an_unknown_code_point_is_not_written: "strongswan", |g| child(g).esp.value[2].set(Kind::Integrity, [Transform::integrity(4711)]) => "integrity-4711";
    a_line_break_in_a_name_strongswan: "strongswan", |g| connection(g).name = "a\nb".to_owned() => "section name";
    a_line_break_in_a_name_libreswan: "libreswan", |g| connection(g).name = "a\nb".to_owned() => "section name";
    a_line_break_in_an_identity_strongswan: "strongswan", |g| connection(g).ike_mut().local_identity.value = Identity::Free("a\nauto=start".to_owned()) => "control character";
    a_line_break_in_an_identity_libreswan: "libreswan", |g| connection(g).ike_mut().local_identity.value = Identity::Free("a\nauto=start".to_owned()) => "control character";
    a_quote_in_an_identity_libreswan: "libreswan", |g| connection(g).ike_mut().local_identity.value = Identity::Free("a\"b".to_owned()) => "double quote";
}

#[test]
fn left_out_settings_are_the_platforms_defaults_and_marked() {
    let mut tree = Tree::default();
    let conf = "connections {\n a {\n local_addrs = 192.0.2.1\n remote_addrs = 192.0.2.2\n local { auth = psk }\n remote { auth = psk }\n children { b { local_ts = 10.1.0.0/16\n remote_ts = 10.2.0.0/16 } }\n }\n}\n";
    tree.add("etc/swanctl/conf.d/a.conf", TreeFile::public(conf.to_owned()));
    tree.add(
        "etc/ipsec.d/a.conf",
        TreeFile::public(
            "conn a\n left=192.0.2.1\n right=192.0.2.2\n leftsubnet=10.1.0.0/16\n rightsubnet=10.2.0.0/16\n auto=add\n esn=no\n authby=secret\n".to_owned(),
        ),
    );
    for (word, esp, window, persistent) in [("strongswan", 3_960, 32, false), ("libreswan", 28_800, 128, true)] {
        let (gateway, findings) = known::platform(word).read(&tree);
        assert_eq!(findings, [], "{word}");
        let connection = &gateway.connections[0];
        let child = &connection.children[0];
        assert_eq!(
            (child.lifetime.value.hard.as_secs(), child.replay_window.value, connection.ike().persistent.value),
            (esp, window, persistent)
        );
        assert_eq!((&child.lifetime.origin, &connection.ike().local_identity.origin), (&Origin::Default, &Origin::Default));
        // One takes anybody who has the secret, the other expects the address.
        let expected = if word == "strongswan" { Identity::Anybody } else { Identity::Address([192, 0, 2, 2].into()) };
        assert_eq!(connection.ike().remote_identity.value, expected);
    }
}
