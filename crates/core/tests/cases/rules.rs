//! The rules of a packet filter, as they stand in the files: services, what is logged, networks that appear as others.

use crate::known;
use uspan_core::*;

/// Builds a pair and returns the files of the packet filter of the first site, one after the other.
fn rules(sites: [&str; 2], tunnel: &str) -> String {
    let text = format!(
        "unified-span = 1\n[site.packhouse]\nplatform = \"strongswan\"\n\
         gateway = {{ address = \"198.51.100.20\", outside = \"wan0\", inside = \"lan0\" }}\nnetworks = {{ office = \"10.1.0.0/22\" }}\n{}\n\
         [site.coldstore]\nplatform = \"libreswan\"\ngateway = {{ address = \"203.0.113.77\", outside = \"eth0\", inside = \"eth1\" }}\n\
         networks = {{ racks = \"10.2.0.0/22\" }}\n{}\n[tunnel.harvest]\nbetween = [\"packhouse\", \"coldstore\"]\nsecret = {{ file = \"k\" }}\n{tunnel}\n",
        sites[0], sites[1]
    );
    let (description, findings) = Description::parse(&Source::new("rules.span.toml", text.as_str()), known::context());
    assert_eq!(findings, []);
    let secret = Secret::new(b"Kq8vT2mXr0ZpL4nWc7YbD1sHfJ6gUeA9tRoEiNvB3xM".to_vec());
    let file = SecretFile::Read { secret, guesses_log10: 40.0, drawn: true, exposed: false };
    let built = build(&description, &Supplied { secrets: [("k".to_owned(), file)].into(), ..Supplied::default() });
    assert!(!any_stops(&built.findings), "{:#?}", built.findings);
    let files = built.trees["packhouse"].files.iter().filter(|(path, _)| path.contains("nftables") || path.contains("iptables"));
    files.map(|(path, file)| format!("== {path}\n{}", file.text)).collect()
}

const SERVICES: &str = "services = { packhouse = [\"https\", \"udp/5060-5070\", \"dns\"], coldstore = [\"ping\"] }\nlogs-drops = true";
const APPEARS: &str = "appears-as = { packhouse = { office = \"10.200.0.0/22\" } }";
const IPTABLES: &str = "packet-filter = \"iptables\"\nshares-internet = true";

#[test]
fn services_in_nftables() {
    insta::assert_snapshot!(rules(["", ""], SERVICES));
}

#[test]
fn services_in_iptables() {
    insta::assert_snapshot!(rules([IPTABLES, ""], SERVICES));
}

#[test]
fn one_way_into_a_filter_of_ones_own() {
    insta::assert_snapshot!(rules(["filter = \"joined\"", ""], "one-way = \"packhouse\""));
}

#[test]
fn a_network_that_appears_as_another_in_nftables() {
    insta::assert_snapshot!(rules(["shares-internet = true", ""], APPEARS));
}

#[test]
fn a_network_that_appears_as_another_in_iptables_and_routes() {
    insta::assert_snapshot!(rules(["packet-filter = \"iptables\"\nstyle = \"route-based\"", ""], APPEARS));
}
