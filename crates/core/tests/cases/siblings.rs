//! Several tunnels between the same two sites: they share an IKE SA.

use crate::known::{context, platform, read_as};
use uspan_core::*;

fn text(platforms: [&str; 2], first: &str, second: &str) -> String {
    format!(
        "unified-span = 1\n[site.packhouse]\nplatform = \"{}\"\ngateway = {{ address = \"198.51.100.20\", outside = \"wan0\", inside = \"lan0\" }}\n\
         networks = {{ office = \"10.1.0.0/22\", guests = \"10.1.8.0/24\" }}\n\
         [site.coldstore]\nplatform = \"{}\"\ngateway = {{ address = \"203.0.113.77\", outside = \"eth0\", inside = \"eth1\" }}\n\
         networks = {{ racks = \"10.2.0.0/22\", cameras = \"10.2.8.0/24\" }}\n\
         [tunnel.harvest]\nbetween = [\"packhouse\", \"coldstore\"]\nsecret = {{ file = \"k\" }}\n{first}\n\
         [tunnel.watch]\nbetween = [\"coldstore\", \"packhouse\"]\nsecret = {{ file = \"k\" }}\ninitiator = \"packhouse\"\n{second}\n",
        platforms[0], platforms[1]
    )
}

const OFFICE: &str = "carries = [[\"office\", \"racks\"]]";
const WATCH: &str = "carries = [[\"cameras\", \"guests\"]]";

fn built(text: &str) -> (Description, Build) {
    let (description, findings) = Description::parse(&Source::new("siblings.span.toml", text), context());
    assert_eq!(findings, []);
    let file = |text: &str| {
        let secret = Secret::new(text.as_bytes().to_vec());
        SecretFile::Read { secret, guesses_log10: 40.0, drawn: true, exposed: false }
    };
    let secrets = [
        ("k".to_owned(), file("Kq8vT2mXr0ZpL4nWc7YbD1sHfJ6gUeA9tRoEiNvB3xM")),
        ("k2".to_owned(), file("another one, as long as that, drawn")),
    ];
    let built = build(&description, &Supplied { secrets: secrets.into(), ..Supplied::default() });
    (description, built)
}

/// The message of the one finding that stops it.
fn stop(text: &str) -> String {
    let (_, built) = built(text);
    let stops: Vec<_> = built.findings.iter().filter(|finding| finding.stops()).collect();
    assert!(stops.len() == 1 && stops[0].rule.code == "US307", "{stops:#?}");
    stops[0].message.clone()
}

#[test]
fn two_tunnels_are_child_sas_of_one_ike_sa() {
    let more =
        format!("{WATCH}\nesp-lifetime = \"20m\"\nservices = [\"https\"]\nesp = [{{ encryption = \"aes-128-gcm\" }}]\npfs = \"ecp-256\"");
    let (_, built) = built(&text(["strongswan", "strongswan"], OFFICE, &more));
    assert!(!any_stops(&built.findings), "{:#?}", built.findings);
    let tree = &built.trees["packhouse"];
    // Both files read together are one connection.
    let (gateway, findings) = read_as(platform("strongswan"), tree);
    assert_eq!(findings.iter().filter(|finding| finding.rule.code != "US810").collect::<Vec<_>>(), Vec::<&Finding>::new());
    let [connection] = gateway.connections.as_slice() else { panic!("one connection: {:#?}", gateway.connections) };
    assert_eq!(connection.name, "harvest");
    let children: Vec<_> = connection.children.iter().map(|child| (child.name.as_str(), child.lifetime.value.hard.as_secs())).collect();
    assert_eq!(children, [("harvest_office_racks", 3600), ("watch_cameras_guests", 1200)]);
    // What the other one carries is carried, and nothing is out of reach.
    assert!(built.tunnels.iter().all(|tunnel| tunnel.unreached.iter().all(Vec::is_empty)));
    for tunnel in &built.tunnels {
        assert_eq!(tunnel.uncarried.len(), 2, "{}: {:?}", tunnel.name, tunnel.uncarried);
    }
    // A daemon that finds them by their selectors has connections of their own.
    let (_, other) = self::built(&text(["strongswan", "libreswan"], OFFICE, WATCH));
    assert!(!any_stops(&other.findings), "{:#?}", other.findings);
    let names: Vec<_> =
        other.tunnels.iter().flat_map(|tunnel| tunnel.gateways.iter().map(|gateway| gateway.connections[0].name.as_str())).collect();
    assert_eq!(names, ["harvest", "harvest", "watch", "harvest"]);
}

#[test]
fn what_belongs_to_the_ike_sa_is_the_same() {
    let swan = ["strongswan", "strongswan"];
    for (key, line) in [
        ("ike-lifetime", "ike-lifetime = \"4h\""),
        ("liveness", "liveness = \"10s\""),
        ("nat-traversal", "nat-traversal = \"forced\""),
        ("ike", "strength = \"brisk\""),
        ("opens", "opens = \"by-hand\""),
    ] {
        let told = stop(&text(swan, OFFICE, &format!("{WATCH}\n{line}")));
        assert_eq!(told, format!("`watch` joins the same sites as `harvest`: the two share an IKE SA, and `{key}` is not the same"));
    }
    let other = text(swan, OFFICE, WATCH).replace(
        "watch]\nbetween = [\"coldstore\", \"packhouse\"]\nsecret = { file = \"k\" }",
        "watch]\nbetween = [\"coldstore\", \"packhouse\"]\nsecret = { file = \"k2\" }",
    );
    assert!(stop(&other).ends_with("`secret` is not the same"));
    // Libreswan judges a further Child SA by the proposals of the first.
    let esp = format!(
        "{WATCH}\nike = [{{ encryption = \"aes-256-gcm\", prf = \"sha2-384\", group = \"ecp-384\" }}]\nesp = [{{ encryption = \"aes-128-gcm\" }}]"
    );
    let same_ike = "ike = [{ encryption = \"aes-256-gcm\", prf = \"sha2-384\", group = \"ecp-384\" }]";
    assert!(stop(&text(["strongswan", "libreswan"], &format!("{OFFICE}\n{same_ike}"), &esp)).ends_with("`esp` is not the same"));
}

#[test]
fn what_a_daemon_cannot_is_told() {
    for (platforms, second, why) in [
        (["strongswan", "openiked"], WATCH, "coldstore (OpenIKED 7.2 (Debian 12)) has one tunnel with each peer"),
        (
            ["libreswan", "strongswan"],
            "carries = \"gateways\"",
            "packhouse (Libreswan 4.10 (Debian 12)) does not come back with both after its peer was lost, if it opens them",
        ),
    ] {
        assert_eq!(stop(&text(platforms, OFFICE, second)), format!("`watch` joins the same sites as `harvest`: {why}"));
    }
    // People open both again.
    let by_hand = |carries: &str| format!("{carries}\nopens = \"by-hand\"");
    let (_, reopened) = built(&text(["libreswan", "strongswan"], &by_hand(OFFICE), &by_hand("carries = \"gateways\"")));
    assert!(!any_stops(&reopened.findings), "{:#?}", reopened.findings);
    let both = stop(&text(["strongswan", "strongswan"], "carries = \"gateways\"", "carries = \"gateways\""));
    assert!(both.ends_with("both carry what the two gateways themselves send each other"), "{both}");
    let routed = text(["strongswan", "strongswan"], OFFICE, WATCH).replacen("networks =", "style = \"route-based\"\nnetworks =", 1);
    assert!(stop(&routed).ends_with("has one interface for all Child SAs of an IKE SA"));
}

#[test]
fn a_daemon_that_keeps_a_dead_peers_ike_sa_does_not_share_it_in_ikev1() {
    let old = "version = \"ikev1\"\nstrength = \"common\"";
    let (_, built) = built(&text(["libreswan", "strongswan"], &format!("{OFFICE}\n{old}"), &format!("{WATCH}\n{old}")));
    let stops: Vec<_> = built.findings.iter().filter(|finding| finding.stops()).collect();
    assert!(stops.len() == 2 && stops.iter().all(|finding| finding.rule.code == "US603"), "{stops:#?}");
    assert!(stops[0].message.contains("keeps a dead peer's IKE SA of IKEv1"), "{}", stops[0].message);
}

#[test]
fn a_tunnel_is_taken_out_and_its_sibling_keeps_the_ike_sa() {
    let (description, whole) = built(&text(["strongswan", "strongswan"], OFFICE, WATCH));
    let file = SecretFile::Read {
        secret: Secret::new(b"Kq8vT2mXr0ZpL4nWc7YbD1sHfJ6gUeA9tRoEiNvB3xM".to_vec()),
        guesses_log10: 40.0,
        drawn: true,
        exposed: false,
    };
    let supplied = Supplied { secrets: [("k".to_owned(), file)].into(), ..Supplied::default() };
    let scripts = retire(&description, &supplied, &whole, |name| name == "watch");
    assert_eq!(scripts.len(), 2);
    for retirement in scripts {
        let script = retirement.script;
        assert!(script.contains("swanctl --terminate --child watch_cameras_guests ") && !script.contains("--ike"), "{script}");
    }
}

#[test]
fn child_sas_that_differ_are_adopted_as_tunnels_of_their_own() {
    for (platforms, more) in [
        (["strongswan", "strongswan"], "esp-lifetime = \"20m\"\nesp = [{ encryption = \"aes-128-gcm\" }]\npfs = \"ecp-256\""),
        (["strongswan", "libreswan"], "esp-lifetime = \"20m\""),
        (["libreswan", "strongswan"], "limited-to = { protocol = \"tcp\", ports = { coldstore = 443 } }"),
    ] {
        let (description, whole) = built(&text(platforms, OFFICE, &format!("{WATCH}\n{more}")));
        assert!(!any_stops(&whole.findings), "{:#?}", whole.findings);
        let profile = |end: usize| &description.sites[end].platform.value;
        let trees = ["packhouse", "coldstore"].map(|name| &whole.trees[name]);
        let read: Vec<_> = [0, 1].into_iter().map(|end| read_as(profile(end), trees[end]).0).collect();
        let adoptee = |end: usize| Adoptee {
            reading: ReadGateway {
                name: ["packhouse", "coldstore"][end],
                gateway: &read[end],
                ends_open: profile(end).own_end == OwnEnd::ByAddress,
                tree: Some(trees[end]),
            },
            facts: profile(end),
        };
        let adopted = adopt([adoptee(0), adoptee(1)]);
        let lost: Vec<_> = adopted.notes.iter().filter(|note| note.kind == NoteKind::AnotherTunnel).collect();
        assert!(lost.is_empty(), "{platforms:?}: {lost:#?}");
        assert_eq!(adopted.text.matches("[tunnel.").count(), 2, "{}", adopted.text);
        assert_eq!(adopted.text.matches("secrets/harvest.key").count(), 2, "{}", adopted.text);
        assert!(!adopted.text.contains("left-alone"), "{}", adopted.text);
        let (again, findings) = Description::parse(&Source::new("adopted.span.toml", adopted.text.as_str()), context());
        assert!(!any_stops(&findings), "{findings:#?}");
        let secret = adopted.secrets["secrets/harvest.key"].clone();
        let file = SecretFile::Read { secret, guesses_log10: 40.0, drawn: true, exposed: false };
        let rebuilt = build(&again, &Supplied { secrets: [("secrets/harvest.key".to_owned(), file)].into(), ..Supplied::default() });
        assert!(!any_stops(&rebuilt.findings), "{:#?}\n{}", rebuilt.findings, adopted.text);
        let selectors = |build: &Build| {
            let children = build.tunnels.iter().flat_map(|tunnel| {
                let end = usize::from(tunnel.ends[0] != "packhouse");
                &tunnel.gateways[end].connections[0].children
            });
            let mut all: Vec<_> = children
                .map(|child| (child.lifetime.value.hard, child.protocol.value, child.esp.value.clone(), child.ports.value))
                .collect();
            all.sort_by_key(|(life, protocol, ..)| (*life, *protocol));
            all
        };
        assert_eq!(selectors(&rebuilt), selectors(&whole));
    }
}
