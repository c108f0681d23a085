//! Two gateways become a description that builds the same two gateways again.

use crate::known;
use uspan_core::*;

const SECRET: &[u8] = b"not a real secret, only for this test";

fn supplied(file: &str) -> Supplied {
    let secret = SecretFile::Read { secret: Secret::new(SECRET.to_vec()), guesses_log10: 40.0, drawn: true, exposed: false };
    Supplied { secrets: [(file.to_owned(), secret)].into(), ..Supplied::default() }
}

fn built(text: &str, file: &str) -> Build {
    let (description, findings) = Description::parse(&Source::new("orchard.span.toml", text), known::context());
    assert!(!any_stops(&findings), "{findings:#?}\n{text}");
    let built = build(&description, &supplied(file));
    assert!(!any_stops(&built.findings), "{:#?}\n{text}", built.findings);
    built
}

/// The orchard's two gateways with what varies.
fn orchard(platforms: [&str; 2], gateways: [&str; 2], networks: [&str; 2], sites: [&str; 2], tunnel: &str) -> String {
    let mut text = "unified-span = 1\n".to_owned();
    for (i, name) in ["packhouse", "coldstore"].iter().enumerate() {
        let (inside, nets) = match networks[i] {
            "" => ("", String::new()),
            some => (", inside = \"lan0\"", format!("networks = {{ {some} }}\n")),
        };
        let gateway = format!("{{ {}, outside = \"wan0\"{inside} }}", gateways[i]);
        text.push_str(&format!("[site.{name}]\nplatform = \"{}\"\ngateway = {gateway}\n{nets}{}\n", platforms[i], sites[i]));
    }
    text.push_str(&format!(
        "[tunnel.harvest]\nbetween = [\"packhouse\", \"coldstore\"]\nsecret = {{ file = \"secrets/harvest.key\" }}\n{tunnel}\n"
    ));
    text
}

const AT: [&str; 2] = ["address = \"198.51.100.20\"", "address = \"203.0.113.77\""];
const ONE: [&str; 2] = ["office = \"10.41.0.0/22\"", "racks = \"10.73.16.0/20\""];
const TWO: [&str; 2] = ["graders = \"10.41.8.0/24\", office = \"10.41.0.0/22\"", "dock = \"10.73.32.0/24\", racks = \"10.73.16.0/20\""];
const PAIR: [&str; 2] = ["strongswan", "libreswan"];

/// The gateways of a tree, as they are read.
fn gateways(built: &Build, platforms: [&str; 2]) -> [Gateway; 2] {
    let read = |end: usize| known::read_as(known::platform(platforms[end]), &built.trees[["packhouse", "coldstore"][end]]).0;
    [read(0), read(1)]
}

fn adopted(built: &Build, platforms: [&str; 2]) -> Adopted {
    let gateways = gateways(built, platforms);
    let names = ["packhouse", "coldstore"];
    let adoptee = |end: usize| {
        let facts = known::platform(platforms[end]);
        let reading = ReadGateway {
            name: names[end],
            gateway: &gateways[end],
            ends_open: facts.own_end == OwnEnd::ByAddress,
            tree: Some(&built.trees[names[end]]),
        };
        Adoptee { reading, facts }
    };
    adopt([adoptee(0), adoptee(1)])
}

fn comes_back(platforms: [&str; 2], text: &str) {
    let before = built(text, "secrets/harvest.key");
    let adopted = adopted(&before, platforms);
    let own: Vec<_> = adopted.notes.iter().filter(|note| note.tunnel.is_some()).collect();
    assert!(own.is_empty(), "{own:#?}\n{text}");
    assert_eq!(adopted.secrets.keys().collect::<Vec<_>>(), ["secrets/harvest.key"]);
    let after = built(&adopted.text, "secrets/harvest.key");
    assert_eq!(gateways(&before, platforms), gateways(&after, platforms), "{text}\n{}", adopted.text);
}

macro_rules! comes_back {
    ($($name:ident: $platforms:expr, $gateways:expr, $networks:expr, $sites:expr, $tunnel:expr;)*) => {
        $(#[test]
        fn $name() {
            comes_back($platforms, &orchard($platforms, $gateways, $networks, $sites, $tunnel));
        })*
    };
}

#[rustfmt::skip]
comes_back! {
    the_plain_pair: PAIR, AT, ONE, ["", ""], "";
    several_networks: PAIR, AT, TWO, ["shares-internet = true", "filter = \"joined\""], "";
    chosen_pairs: PAIR, AT, TWO, ["", ""], "carries = [[\"graders\", \"dock\"], [\"office\", \"racks\"]]";
    a_strength: PAIR, AT, ONE, ["", ""], "strength = \"common\"\nike-lifetime = \"4h\"\nesp-lifetime = \"30m\"\nliveness = \"off\"";
    chosen_proposals: PAIR, AT, ONE, ["", ""],
        "ike = [{ encryption = \"aes-128-cbc\", integrity = \"sha2-256\", group = \"modp-2048\" }]\nesp = [{ encryption = \"aes-128-cbc\", integrity = \"sha2-256\" }]\npfs = false";
    identities: PAIR, AT, ONE, ["identity = { name = \"packhouse.example.net\" }", "identity = { mail = \"gate@coldstore.example.net\" }"],
        "initiator = \"coldstore\"\nopens = \"on-traffic\"";
    either_opens: PAIR, AT, ONE, ["", ""], "initiator = \"either\"";
    by_hand: PAIR, AT, ONE, ["", ""], "opens = \"by-hand\"";
    the_old_version: PAIR, AT, ONE, ["", ""],
        "version = \"ikev1\"\nike = [{ encryption = \"aes-256-cbc\", integrity = \"sha2-512\", group = \"modp-3072\" }]\nesp = [{ encryption = \"aes-256-cbc\", integrity = \"sha2-512\" }]";
    routes: PAIR, AT, ONE, ["style = \"route-based\"\npacket-filter = \"iptables\"", "style = \"route-based\""], "link = \"10.254.0.0/30\"";
    some_services: PAIR, AT, ONE, ["", ""], "services = [\"ping\", \"https\", \"udp/5060-5070\"]";
    services_of_each: PAIR, AT, ONE, ["", ""], "services = { packhouse = [\"https\"], coldstore = [\"ping\", \"ssh\"] }";
    one_way: PAIR, AT, ONE, ["", ""], "one-way = \"coldstore\"\nservices = [\"https\"]";
    behind_a_nat_device: PAIR, ["address = \"198.51.100.20\", own-address = \"10.99.0.2\"", AT[1]], ONE, ["identity = { name = \"packhouse.example.net\" }", ""], "nat-traversal = \"forced\"";
    a_dynamic_address: PAIR, ["address = \"dynamic\"", AT[1]], ONE, ["identity = { name = \"packhouse.example.net\" }", ""], "";
    overlapping_networks: PAIR, AT, ["office = \"10.1.0.0/22\"", "racks = \"10.1.0.0/22\""], ["", ""],
        "appears-as = { packhouse = { office = \"10.200.0.0/22\" }, coldstore = { racks = \"10.201.0.0/22\" } }";
    gre_and_bgp: PAIR, AT, ONE, ["as-number = 65001", "as-number = 65002"], "carrier = \"gre\"\nrouting = \"bgp\"\nlink = \"10.254.0.0/30\"";
    two_hosts: PAIR, AT, ["", ""], ["", ""], "carries = \"gateways\"";
    extended_numbers: PAIR, AT, ONE, ["", ""], "extended-sequence-numbers = true\ncopies-dscp = \"both\"";
    another_daemon: ["openiked", "strongswan"], AT, TWO, ["shares-internet = true", ""], "esp-lifetime = \"10m\"\nike-lifetime = \"30m\"";
}

#[test]
fn what_the_two_ends_disagree_on_is_told_and_not_papered_over() {
    let mut before = built(&orchard(PAIR, AT, ONE, ["", ""], ""), "secrets/harvest.key");
    let file = before.trees.get_mut("coldstore").expect("a tree").files.get_mut("etc/ipsec.d/harvest.conf").expect("a file");
    file.text = file.text.replace("pfs=yes", "pfs=no").replace("salifetime=3600s", "salifetime=1800s");
    let adopted = adopted(&before, PAIR);
    let told: Vec<_> = adopted
        .notes
        .iter()
        .filter(|note| note.tunnel.is_some())
        .map(|note| (note.about.as_str(), note.kind == NoteKind::Disagrees))
        .collect();
    assert_eq!(told, [("PFS", true), ("lifetime of ESP", false)]);
    let note = adopted.notes.iter().find(|note| note.about == "PFS").expect("told");
    assert_eq!(note.text, "packhouse says ecp-384, coldstore says off");
    assert!(note.places.iter().all(Option::is_some), "{note:?}");
    // What was taken builds.
    built(&adopted.text, "secrets/harvest.key");
}

#[test]
fn a_secret_that_is_missing_is_told() {
    let mut before = built(&orchard(PAIR, AT, ONE, ["", ""], ""), "secrets/harvest.key");
    for tree in before.trees.values_mut() {
        tree.files.retain(|path, _| !path.contains("secrets"));
    }
    let adopted = adopted(&before, PAIR);
    assert!(adopted.secrets.is_empty());
    let note = adopted.notes.iter().find(|note| note.about == "shared secret").expect("told");
    assert_eq!(note.text, "neither end's files hold it: supply secrets/harvest.key");
}

#[test]
fn interfaces_are_told_by_the_gateways_own_files() {
    let mut before = built(&orchard(PAIR, AT, ONE, ["", ""], ""), "secrets/harvest.key");
    let mut add = |site: &str, path: &str, text: &str| {
        before.trees.get_mut(site).expect("a tree").add(path, TreeFile::public(text.to_owned()));
    };
    let classic = "iface ppp7 inet static\n address 198.51.100.20/24\niface br3 inet static\n address 10.41.0.1/22\n";
    add("packhouse", "etc/network/interfaces", classic);
    add("coldstore", "etc/systemd/network/1.network", "[Match]\nName=wan9\n[Network]\nAddress=203.0.113.77/24\n");
    add("coldstore", "etc/systemd/network/2.network", "[Match]\nName=lan9\n[Network]\nAddress=10.73.16.1/20\n");
    let adopted = adopted(&before, PAIR);
    assert_eq!(adopted.notes, [], "nothing is left open");
    assert!(adopted.text.contains("outside = \"ppp7\", inside = \"br3\""), "{}", adopted.text);
    assert!(adopted.text.contains("outside = \"wan9\", inside = \"lan9\""), "{}", adopted.text);
}

/// A gateway whose own filter drops what it does not know: the tunnel's rules join it, and it stays as it is.
#[test]
fn an_administrators_own_filter_is_joined_and_named() {
    let mut before = built(&orchard(PAIR, AT, ONE, ["", ""], ""), "secrets/harvest.key");
    let tree = before.trees.get_mut("packhouse").expect("a tree");
    tree.files.retain(|path, _| !path.starts_with("etc/nftables"));
    let house = "table inet house {\n chain forward {\n  type filter hook forward priority filter; policy drop;\n  iifname \"lan0\" accept\n }\n}\n";
    tree.add("etc/nftables.conf", TreeFile::public(house.to_owned()));
    let adopted = adopted(&before, PAIR);
    let note = adopted.notes.iter().find(|note| note.about == "rules of packhouse").expect("told");
    assert_eq!(
        note.text,
        "chains that are not a tunnel's stay as they are, outside of the description: forward of the table inet house; jump to the tunnel's from those that drop"
    );
    assert!(note.places[0].is_some() && note.places[1].is_none());
    let again = built(&adopted.text, "secrets/harvest.key");
    assert!(again.trees["packhouse"].files.contains_key("etc/nftables.d/uspan-harvest.chains"));
}
