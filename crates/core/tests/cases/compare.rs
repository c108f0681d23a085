//! Two gateways' files held against each other: what a change in them is found to be.

use crate::known;
use uspan_core::*;

const DEMO: &str = include_str!("../../demo/orchard.span.toml");
const SECRET: &[u8] = b"not a real secret, only for this test";

/// What the description writes, by site.
fn trees(text: &str) -> std::collections::BTreeMap<String, Tree> {
    let (description, findings) = Description::parse(&Source::new("orchard.span.toml", text), known::context());
    assert!(findings.is_empty(), "{findings:#?}");
    let file = SecretFile::Read { secret: Secret::new(SECRET.to_vec()), guesses_log10: 40.0, drawn: true, exposed: false };
    let supplied = Supplied { secrets: [("secrets/harvest.key".to_owned(), file)].into(), ..Supplied::default() };
    let built = build(&description, &supplied);
    assert!(!any_stops(&built.findings), "{:#?}", built.findings);
    built.trees
}

/// Edits of files: the site, the end of the path, what is replaced, by what.
type Edit = (&'static str, &'static str, &'static str, &'static str);

fn edited(text: &str, edits: &[Edit]) -> [Tree; 2] {
    let mut trees = trees(text);
    for (site, path, old, new) in edits {
        let tree = trees.get_mut(*site).expect("a site");
        let (_, file) = tree.files.iter_mut().find(|(at, _)| at.ends_with(path)).unwrap_or_else(|| panic!("no {path}"));
        assert!(file.text.contains(old), "{old} is not in\n{}", file.text);
        file.text = file.text.replace(old, new);
    }
    ["packhouse", "coldstore"].map(|site| trees.remove(site).expect("a tree"))
}

fn read(tree: &Tree) -> Gateway {
    let platforms = known::context().profiles_of(tree);
    assert_eq!(platforms.len(), 1, "{platforms:?}");
    known::read_as(platforms[0], tree).0
}

fn compared(text: &str, edits: &[Edit]) -> Comparison {
    let trees = edited(text, edits);
    let gateways = trees.each_ref().map(read);
    let reading = |end: usize| ReadGateway {
        name: ["packhouse", "coldstore"][end],
        gateway: &gateways[end],
        ends_open: false,
        tree: Some(&trees[end]),
    };
    known::trees_compared([reading(0), reading(1)])
}

/// Names of what is fatal, and of what merely differs; each once.
fn found(edits: &[Edit]) -> [Vec<String>; 2] {
    let comparison = compared(DEMO, edits);
    [Gravity::Fatal, Gravity::Compatible].map(|gravity| {
        let of = comparison.pairs.iter().flat_map(|pair| &pair.parameters).filter(|parameter| parameter.gravity == gravity);
        let mut names: Vec<_> = of.map(|parameter| parameter.name.clone()).collect();
        names.dedup();
        names
    })
}

const PACK: &str = "swanctl/conf.d/harvest.conf";
const COLD: &str = "ipsec.d/harvest.conf";
const FILTER: &str = "uspan-harvest.nft";

macro_rules! found {
    ($($name:ident: $edits:expr => $fatal:expr, $differs:expr;)*) => {
        $(#[test]
        fn $name() {
            let [fatal, differs] = found(&$edits);
            assert_eq!((fatal, differs), ($fatal.map(str::to_owned).to_vec(), $differs.map(str::to_owned).to_vec()));
        })*
    };
}

#[rustfmt::skip]
found! {
    nothing_in_files_as_they_were_written: [] => [""; 0], [""; 0];
    the_one_hash_of_esp: [("coldstore", COLD, "aes_gcm256;dh20,chacha20_poly1305;dh20,aes256-sha2_512;dh20", "aes256-sha2_256;dh20")]
        => ["ESP proposals"], [""; 0];
    the_group_of_ike: [("coldstore", COLD, "ike=aes_gcm256-sha2_384;dh20,aes256-sha2_384;dh20,aes256-sha2_512;modp4096", "ike=aes_gcm256-sha2_384;dh19")]
        => ["IKE proposals"], [""; 0];
    the_same_in_inverse_order: [("coldstore", COLD, "aes_gcm256;dh20,chacha20_poly1305;dh20,", "chacha20_poly1305;dh20,aes_gcm256;dh20,")]
        => [""; 0], ["ESP proposals"];
    pfs_of_one_end: [("coldstore", COLD, "pfs=yes", "pfs=no")] => ["PFS"], [""; 0];
    the_group_of_pfs: [("packhouse", PACK, "aes256gcm16-ecp384, chacha20poly1305-ecp384, aes256-sha512-ecp384", "aes256gcm16-ecp256")] => ["PFS"], ["ESP proposals"];
    a_narrower_network: [("coldstore", COLD, "rightsubnet=10.41.0.0/22", "rightsubnet=10.41.0.0/24")] => ["what may cross"], [""; 0];
    crossed_networks: [("packhouse", PACK, "local_ts = 10.41.0.0/22\n        remote_ts = 10.73.16.0/20", "local_ts = 10.73.16.0/20\n        remote_ts = 10.41.0.0/22")]
        => ["what may cross", "outbound filter", "inbound filter"], [""; 0];
    the_version: [("coldstore", COLD, "ikev2=insist", "ikev2=no")] => ["key exchange"], [""; 0];
    a_peer_elsewhere: [("packhouse", PACK, "remote_addrs = 203.0.113.77", "remote_addrs = 203.0.113.78")] => ["address of coldstore"], [""; 0];
    an_inside_address: [("coldstore", COLD, "\tleft=203.0.113.77", "\tleft=10.9.9.2")] => [""; 0], ["address of coldstore"];
    an_identity_of_another_kind: [("packhouse", PACK, "fqdn:packhouse.example.net", "keyid:packhouse.example.net")] => ["identity of packhouse", "shared secret"], [""; 0];
    the_mode: [("coldstore", COLD, "type=tunnel", "type=transport")] => ["mode of ESP"], [""; 0];
    sequence_numbers: [("coldstore", COLD, "esn=no", "esn=yes")] => ["sequence numbers"], [""; 0];
    lifetimes: [("coldstore", COLD, "salifetime=3600s", "salifetime=1800s"), ("packhouse", PACK, "rekey_time = 28440s", "rekey_time = 14000s")]
        => [""; 0], ["lifetime of the IKE SA", "lifetime of ESP"];
    a_default_that_is_not_the_other_ends_value: [("coldstore", COLD, "\treplay-window=128\n", "")] => [""; 0], [""; 0];
    nobody_who_opens: [("packhouse", PACK, "start_action = trap|start", "start_action = none")] => [""; 0], ["opens"];
    a_secret: [("coldstore", "harvest.secrets", "PSK 0x6e", "PSK 0x6f")] => ["shared secret"], [""; 0];
    a_secret_for_somebody_else: [("coldstore", "harvest.secrets", "203.0.113.77", "203.0.113.9")] => ["shared secret"], [""; 0];
    an_inbound_rule: [("packhouse", FILTER, "ip saddr 10.73.16.0/20 ip daddr 10.41.0.0/22 meta ipsec exists counter accept\n", "\n")] => ["inbound filter"], [""; 0];
    an_outbound_rule: [("coldstore", FILTER, "ip saddr 10.73.16.0/20 ip daddr 10.41.0.0/22 rt ipsec exists counter accept\n", "\n")] => ["outbound filter"], [""; 0];
    the_exemption: [("packhouse", FILTER, "counter snat ip prefix to 10.41.0.0/22", "counter"), ("packhouse", FILTER, "counter snat ip prefix to 10.41.8.0/24", "counter"),
        ("packhouse", FILTER, "counter snat ip prefix to 10.73.16.0/20", "counter")] => [""; 0], ["exemption from NAT"];
    a_translation_before_it: [("packhouse", FILTER, "ip saddr 10.41.0.0/22 ip daddr 10.73.16.0/20 counter snat ip prefix to 10.41.0.0/22",
        "ip saddr 10.41.0.0/22 ip daddr 10.73.16.0/20 counter snat to 198.51.100.20")] => ["exemption from NAT"], [""; 0];
}

/// The only parameter of a name that is not equal.
fn parameter(comparison: &Comparison, name: &str) -> ComparedParameter {
    let all = comparison.pairs.iter().flat_map(|pair| &pair.parameters);
    all.filter(|parameter| parameter.name == name).min_by_key(|parameter| parameter.gravity).expect("such a parameter").clone()
}

#[test]
fn values_come_with_each_platforms_spelling_and_line() {
    let comparison = compared(DEMO, &[("coldstore", COLD, "pfs=yes", "pfs=no")]);
    let esp = parameter(&comparison, "ESP proposals");
    assert!(esp.values[0].spelling.as_deref().is_some_and(|text| text.starts_with("esp_proposals = aes256gcm16-ecp384")), "{esp:?}");
    assert!(esp.values[1].spelling.as_deref().is_some_and(|text| text.starts_with("esp=aes_gcm256;dh20")), "{esp:?}");
    assert_eq!(esp.values[1].place.as_ref().map(|place| &*place.file), Some("etc/ipsec.d/harvest.conf"));
    let pfs = parameter(&comparison, "PFS");
    assert_eq!((pfs.values[0].value.as_str(), pfs.values[1].value.as_str()), ("ecp-384", "off"));
    assert!(pfs.practice.contains("first rekey, after about 54m"), "{}", pfs.practice);
}

#[test]
fn the_hash_that_was_left_behind_is_named() {
    let edits = [("coldstore", COLD, "aes_gcm256;dh20,chacha20_poly1305;dh20,aes256-sha2_512;dh20", "aes256-sha2_256;dh20")];
    let esp = parameter(&compared(DEMO, &edits), "ESP proposals");
    assert!(esp.practice.contains("integrity (sha2-512 at packhouse, sha2-256 at coldstore)"), "{}", esp.practice);
}

#[test]
fn a_default_is_marked_as_one() {
    let comparison = compared(DEMO, &[("packhouse", PACK, "        replay_window = 128\n", "")]);
    let window = parameter(&comparison, "replay window");
    assert_eq!(
        window.values.each_ref().map(|shown| (shown.value.as_str(), shown.is_default)),
        [("32 packets", true), ("128 packets", false)]
    );
    assert_eq!(window.gravity, Gravity::Compatible);
}

#[test]
fn no_secret_is_shown_in_whatever_spelling() {
    let openiked = DEMO
        .replace("platform        = \"libreswan\"", "platform = \"openiked\"")
        .replace("platform = \"libreswan\"", "platform = \"openiked\"");
    let one = openiked.replace("[tunnel.harvest]", "[tunnel.harvest]\ncarries = [[\"office\", \"racks\"]]");
    let trees = edited(&one, &[]);
    let gateways = trees.each_ref().map(read);
    let reading = |end: usize| ReadGateway { name: "x", gateway: &gateways[end], ends_open: false, tree: Some(&trees[end]) };
    let all = format!("{:?}", known::trees_compared([reading(0), reading(1)]));
    let hex: String = SECRET.iter().map(|byte| format!("{byte:02x}")).collect();
    assert!(!all.contains(&hex) && !all.contains("not a real secret"), "a secret");
    assert!(all.contains("authentication of x"));
    assert_eq!(known::trees_compared([reading(0), reading(1)]).count(Gravity::Fatal), 0);
}

#[test]
fn tunnels_find_their_counterparts_among_others() {
    let mut trees = edited(DEMO, &[]);
    // A second connection, to somebody else, that stands before the right one.
    let text = &trees[0].files["etc/swanctl/conf.d/harvest.conf"].text;
    let other = text.replace("harvest", "atlas").replace("203.0.113.77", "203.0.113.200");
    trees[0].add("etc/swanctl/conf.d/atlas.conf", TreeFile::public(other));
    let gateways = trees.each_ref().map(read);
    let reading = |end: usize| ReadGateway { name: "x", gateway: &gateways[end], ends_open: false, tree: Some(&trees[end]) };
    let comparison = known::trees_compared([reading(0), reading(1)]);
    assert_eq!(comparison.pairs.iter().map(|pair| pair.names.clone()).collect::<Vec<_>>(), [["harvest", "harvest"].map(str::to_owned)]);
    assert_eq!(comparison.alone, [vec!["atlas".to_owned()], Vec::new()]);
}

#[test]
fn drift_from_what_should_be_is_found_and_its_weight() {
    let should = edited(DEMO, &[]);
    let stands =
        edited(DEMO, &[("packhouse", PACK, "dpd_delay = 30s", "dpd_delay = 60s"), ("packhouse", PACK, "\"fqdn:packhouse", "\"fqdn:press")]);
    let [stands, should] = [&stands[0], &should[0]];
    let gateways = [read(stands), read(should)];
    let reading = |end: usize, tree| ReadGateway { name: "x", gateway: &gateways[end], ends_open: false, tree: Some(tree) };
    let comparison = compare_same(reading(0, stands), reading(1, should));
    assert_eq!(parameter(&comparison, "own identity").gravity, Gravity::Fatal);
    assert_eq!(parameter(&comparison, "liveness").gravity, Gravity::Compatible);
    assert_eq!(comparison.count(Gravity::Fatal) - 1, usize::from(parameter(&comparison, "shared secret").gravity == Gravity::Fatal));
}

#[test]
fn child_sas_find_their_counterparts_whatever_their_order() {
    // The first one here has none there: the second one is not compared with the wrong one for that.
    let edits = [("coldstore", COLD, "rightsubnet=10.41.0.0/22", "rightsubnet=10.99.0.0/22")];
    let comparison = compared(DEMO, &edits);
    let fatal: Vec<_> = comparison.pairs[0].parameters.iter().filter(|parameter| parameter.gravity == Gravity::Fatal).collect();
    assert_eq!(fatal.iter().map(|row| row.child.as_deref()).collect::<Vec<_>>(), [Some("harvest_office_racks"), None, None], "{fatal:#?}");
    assert!(fatal[0].practice.contains("nothing in common"), "{}", fatal[0].practice);
}

#[test]
fn other_tunnels_of_a_hub_are_none_of_this_ones_business() {
    let site = |name: &str, n: u8, more: &str| {
        format!(
            "[site.{name}]\nplatform = \"strongswan\"\ngateway = {{ address = \"203.0.113.{n}\", outside = \"w\", inside = \"l\" }}\nnetworks = {{ n = \"10.{n}.0.0/16\" }}\n{more}\n"
        )
    };
    let tunnel =
        |name: &str, more: &str| format!("[tunnel.{name}]\nbetween = [\"hub\", \"{name}\"]\nsecret = {{ file = \"{name}\" }}\n{more}\n");
    let routes = "style = \"route-based\"";
    let text = [
        "unified-span = 1\n".to_owned(),
        site("hub", 1, routes),
        site("nursery", 2, routes),
        site("press", 3, ""),
        site("market", 4, ""),
        tunnel("nursery", ""),
        tunnel("press", "carrier = \"gre\""),
        tunnel("market", "carries = \"gateways\""),
    ]
    .concat();
    let (description, findings) = Description::parse(&Source::new("star.span.toml", text), known::context());
    assert!(findings.is_empty(), "{findings:#?}");
    let secret = |name: &str| Secret::new(format!("{name}: not a real secret, only for this test").into_bytes());
    let file = |name: &str| (name.to_owned(), SecretFile::Read { secret: secret(name), guesses_log10: 40.0, drawn: true, exposed: false });
    let supplied = Supplied { secrets: ["nursery", "press", "market"].map(file).into(), ..Supplied::default() };
    let built = build(&description, &supplied);
    assert!(!any_stops(&built.findings), "{:#?}", built.findings);
    fn reading(gateway: &Gateway) -> ReadGateway<'_> {
        ReadGateway { name: "x", gateway, ends_open: false, tree: None }
    }
    let hub = read(&built.trees["hub"]);
    for branch in ["nursery", "press", "market"] {
        let branch_gateway = read(&built.trees[branch]);
        let comparison = known::ends_compared([reading(&hub), reading(&branch_gateway)], ["strongswan"; 2]);
        assert_eq!((comparison.pairs.len(), comparison.count(Gravity::Fatal)), (1, 0), "{branch}: {:#?}", comparison.pairs);
    }
}

/// A rule of the administrator's that translates whatever leaves is fatal where the exemption is not there, and harmless
/// where it is.
#[test]
fn a_masquerading_rule_wants_the_exemption() {
    let masquerade =
        "table ip nat {\n chain postrouting {\n  type nat hook postrouting priority 100;\n  oifname \"wan0\" masquerade\n }\n}\n";
    let look = |edits: &[Edit]| {
        let mut trees = edited(DEMO, edits);
        trees[0].add("etc/nftables.conf", TreeFile::public(masquerade.to_owned()));
        let gateways = trees.each_ref().map(read);
        let reading = |end: usize| ReadGateway {
            name: ["packhouse", "coldstore"][end],
            gateway: &gateways[end],
            ends_open: false,
            tree: Some(&trees[end]),
        };
        let comparison = known::trees_compared([reading(0), reading(1)]);
        let row = comparison.pairs[0].parameters.iter().find(|parameter| parameter.name == "exemption from NAT");
        row.map(|row| (row.gravity, row.values[0].value.clone())).expect("a row")
    };
    assert_eq!(look(&[]), (Gravity::Equal, "exempt".to_owned()));
    let gone = [("packhouse", FILTER, "ip saddr 10.41.0.0/22 ip daddr 10.73.16.0/20 counter snat ip prefix to 10.41.0.0/22\n", "\n")];
    assert_eq!(look(&gone), (Gravity::Fatal, "10.41.0.0/22 becomes the gateway's own address".to_owned()));
}
