//! A configuration in time: what a new one changes in an old one, and what takes a tunnel out again.

use crate::known;
use std::collections::BTreeMap;

use uspan_core::*;

const STAR: &str = r#"unified-span = 1
[site.packhouse]
platform = "openiked"
gateway = { address = "198.51.100.20", outside = "wan0", inside = "lan0" }
networks = { office = "10.41.0.0/22" }
shares-internet = true
[site.coldstore]
platform = "libreswan"
gateway = { address = "203.0.113.77", outside = "eth0", inside = "eth1" }
networks = { racks = "10.73.16.0/20" }
packet-filter = "iptables"
filter = "joined"
[site.press]
platform = "strongswan"
gateway = { address = "203.0.113.90", outside = "eth0", inside = "eth1" }
networks = { hall = "10.90.0.0/24" }
style = "route-based"
[tunnel.harvest]
between = ["packhouse", "coldstore"]
secret = { file = "k1" }
[tunnel.juice]
between = ["press", "packhouse"]
secret = { file = "k2" }
"#;

fn supplied(first: &str) -> Supplied {
    let file = |secret: &str| SecretFile::Read {
        secret: Secret::new(secret.as_bytes().to_vec()),
        guesses_log10: 40.0,
        drawn: true,
        exposed: false,
    };
    let secrets = [("k1".to_owned(), file(first)), ("k2".to_owned(), file("Zr4uY8wQe1TnM5pVb9XcF2kDhG7jLsO0aPiEyNtC6vB"))].into();
    Supplied { secrets, ..Supplied::default() }
}

const SECRET: &str = "Kq8vT2mXr0ZpL4nWc7YbD1sHfJ6gUeA9tRoEiNvB3xM";

fn described(text: &str) -> Description {
    let (description, findings) = Description::parse(&Source::new("star.span.toml", text), known::context());
    assert_eq!(findings, []);
    description
}

fn trees(text: &str, secret: &str) -> BTreeMap<String, Tree> {
    let built = build(&described(text), &supplied(secret));
    assert!(!any_stops(&built.findings), "{:#?}", built.findings);
    built.trees
}

// ---- taking out --------------------------------------------------------------------------------

fn scripts(tunnel: &str) -> Vec<Retirement> {
    let (description, supplied) = (described(STAR), supplied(SECRET));
    let whole = build(&description, &supplied);
    assert!(!any_stops(&whole.findings), "{:#?}", whole.findings);
    retire(&description, &supplied, &whole, |name| name == tunnel)
}

#[test]
fn the_end_that_opens_goes_first() {
    let sites = |tunnel| -> Vec<String> { scripts(tunnel).into_iter().map(|one| one.site).collect() };
    assert_eq!(sites("harvest"), ["packhouse", "coldstore"]);
    assert_eq!(sites("juice"), ["press", "packhouse"]);
    assert_eq!(scripts("nothing"), []);
}

#[test]
fn a_gateway_keeps_its_other_tunnel() {
    let own = scripts("harvest").remove(0).script;
    // Of the main file only the own line goes, and the daemon reads it again.
    assert!(own.contains("sed -i '\\|^include \"/etc/iked.d/harvest.conf\"$|d' /etc/iked.conf"), "{own}");
    assert!(own.contains("rm -f /etc/iked.d/harvest.conf") && own.contains("ikectl reload"), "{own}");
    assert!(!own.contains("rm -f /etc/iked.conf") && !own.contains("juice"), "{own}");
}

#[test]
fn what_stands_in_files_of_others_is_left_to_people() {
    let all = scripts("harvest");
    assert!(all[0].by_hand.is_empty(), "{:?}", all[0].by_hand);
    let cold = &all[1];
    assert!(!cold.by_hand.is_empty() && cold.script.contains(&cold.by_hand[0]), "{}", cold.script);
    for chain in ["uspan-harvest-in", "uspan-harvest-fwd"] {
        assert!(cold.script.contains(&format!("iptables -t filter -F {chain}")), "{}", cold.script);
    }
}

#[test]
fn an_interface_goes_before_its_file() {
    let press = scripts("juice").remove(0).script;
    let place = |text: &str| press.find(text).unwrap_or_else(|| panic!("no `{text}`:\n{press}"));
    assert!(place("ifdown --force us-juice") < place("rm -f /etc/network/interfaces.d/uspan-juice"));
    assert!(place("swanctl --terminate") < place("rm -f /etc/swanctl/conf.d/juice.conf"));
    assert!(place("rm -f /etc/swanctl/conf.d/juice.conf") < place("swanctl --load-all"));
}

#[test]
fn no_script_holds_a_secret() {
    let hex: String = SECRET.bytes().map(|byte| format!("{byte:02x}")).collect();
    for one in scripts("harvest") {
        assert!(!one.script.contains(SECRET) && !one.script.contains(&hex));
    }
}

// ---- changing ----------------------------------------------------------------------------------

/// What changes at a site when a text of the description becomes another.
fn changed(site: &str, old: &str, new: &str) -> Vec<Change> {
    assert!(STAR.contains(old), "{old}");
    let text = STAR.replacen(old, new, 1);
    let description = described(&text);
    let site = description.sites.iter().find(|found| found.name.value == site).expect("a site");
    let (before, now) = (trees(STAR, SECRET), trees(&text, SECRET));
    changes(site, before.get(&site.name.value).unwrap_or(&Tree::default()), &now[&site.name.value], &Context::built_in())
}

fn abouts(changes: &[Change]) -> Vec<&'static str> {
    changes.iter().map(|change| change.about).collect()
}

#[test]
fn nothing_before_is_no_change() {
    let description = described(STAR);
    assert_eq!(changes(&description.sites[0], &Tree::default(), &trees(STAR, SECRET)["packhouse"], &Context::built_in()), []);
}

#[test]
fn a_lifetime_concerns_each_end_alone_and_waits_where_the_daemon_waits() {
    let (old, new) = ("secret = { file = \"k1\" }", "secret = { file = \"k1\" }\nike-lifetime = \"4h\"");
    for (site, effect) in [("packhouse", Effect::AtOpening), ("coldstore", Effect::Interrupts)] {
        let found = changed(site, old, new);
        assert_eq!(abouts(&found), ["lifetime of the IKE SA"], "{found:#?}");
        assert_eq!((found[0].before.as_str(), found[0].now.as_str(), found[0].effect, found[0].both_ends), ("8h", "4h", effect, false));
    }
    assert_eq!(changed("press", old, new), []);
}

#[test]
fn another_network_changes_selectors_rules_and_routes_at_both_ends() {
    let found = changed("press", "office = \"10.41.0.0/22\"", "office = \"10.42.0.0/22\"");
    assert_eq!(abouts(&found), ["what may cross", "filter rules", "interface and routes"], "{found:#?}");
    assert!(found[0].both_ends && found[0].before.contains("10.41.0.0/22") && found[0].now.contains("10.42.0.0/22"));
}

#[test]
fn another_secret_is_told_of_and_not_shown() {
    let description = described(STAR);
    let found = changes(
        &description.sites[1],
        &trees(STAR, SECRET)["coldstore"],
        &trees(STAR, "another secret of forty three characters...")["coldstore"],
        &Context::built_in(),
    );
    assert_eq!(abouts(&found), ["shared secret"]);
    assert_eq!((found[0].before.as_str(), found[0].now.as_str()), ("one", "another"));
}

#[test]
fn another_daemon_is_one_change_and_not_a_new_tunnel() {
    let found = changed("coldstore", "platform = \"libreswan\"", "platform = \"strongswan\"");
    assert_eq!(found[0].about, "platform", "{found:#?}");
    assert!(found[0].before.contains("Libreswan") && found[0].now.contains("strongSwan"));
    assert!(found.iter().all(|change| change.about != "tunnel"), "{found:#?}");
}

#[test]
fn tunnels_come_and_go() {
    let alone = STAR.split("[tunnel.juice]").next().expect("a head").to_owned();
    let description = described(&alone);
    let (with, without) = (&trees(STAR, SECRET)["packhouse"], &trees(&alone, SECRET)["packhouse"]);
    let tunnel =
        |changes: Vec<Change>| changes.into_iter().find(|change| change.about == "tunnel").map(|change| (change.tunnel, change.effect));
    assert_eq!(tunnel(changes(&description.sites[0], with, without, &Context::built_in())), Some(("juice".to_owned(), Effect::Closes)));
    assert_eq!(tunnel(changes(&description.sites[0], without, with, &Context::built_in())), Some(("juice".to_owned(), Effect::Opens)));
}

#[test]
fn services_change_the_rules_and_nothing_else() {
    let found = changed("coldstore", "secret = { file = \"k1\" }", "secret = { file = \"k1\" }\nservices = [\"https\"]");
    assert_eq!(abouts(&found), ["filter rules"], "{found:#?}");
    assert_eq!(found[0].effect, Effect::AtOnce);
    assert!(found[0].now.contains("https"), "{}", found[0].now);
}
