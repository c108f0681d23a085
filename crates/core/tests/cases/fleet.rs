//! Stars, meshes and lists of many sites, from the description and from inventories.

use std::collections::{BTreeMap, BTreeSet};

use proptest::prelude::*;
use uspan_core::{
    Build, Context, Description, Finding, Hook, Packet, Protection, Secret, SecretFile, Source, Supplied, Traffic, Tunnel, Verdict,
    any_stops, build, fingerprint, sheet,
};

const MASTER: &str = "a-master-secret-that-is-made-up-0123456789";

const HEAD: &str = r#"
unified-span = 1

[site.packhouse]
platform = "libreswan"
gateway = { address = "198.51.100.20", outside = "eth0", inside = "eth1" }
networks = { office = "10.41.0.0/22" }
shares-internet = true

[inventory.branches]
file = "branches"
columns = { name = "Site", "gateway.address" = "WAN", networks = "LAN" }
all = { platform = "strongswan", gateway = { outside = "wan0", inside = "lan0" } }
"#;

const ROWS: &str = "Site;WAN;LAN;Contact\n\
    coldstore;203.0.113.77;10.73.16.0/20;Ines\n\
    nursery;203.0.113.78;beds=10.74.0.0/24 office=10.74.1.0/24;\"Bo; out\"\n\
    press;203.0.113.79;10.75.0.0/24;\n";

fn star(more: &str) -> String {
    format!("{HEAD}\n[group.orchards]\nshape = \"star\"\nhubs = [\"packhouse\"]\nmembers = [\"branches\"]\nmaster = \"m\"\n{more}\n")
}

fn read(text: &str, files: &[(&str, &str)]) -> (Description, Vec<Finding>) {
    let files: BTreeMap<&str, &str> = files.iter().copied().collect();
    let mut give = |file: &str| files.get(file).map(|text| (*text).to_owned()).ok_or_else(|| "no such file".to_owned());
    Description::parse_with(&Source::new("fleet.span.toml", text), &Context::built_in(), &mut give)
}

fn supplied() -> Supplied {
    let secret = Secret::new(MASTER.as_bytes().to_vec());
    let file = SecretFile::Read { secret, guesses_log10: 40.0, drawn: true, exposed: false };
    Supplied { secrets: BTreeMap::from([("m".to_owned(), file)]), ..Supplied::default() }
}

fn built(text: &str, rows: &str) -> Build {
    let (description, findings) = read(text, &[("branches", rows), ("branches.json", rows)]);
    assert!(!any_stops(&findings), "{findings:#?}");
    let built = build(&description, &supplied());
    assert!(!any_stops(&built.findings), "{:#?}", built.findings);
    built
}

fn names(build: &Build) -> Vec<&str> {
    build.tunnels.iter().map(|tunnel| tunnel.name.as_str()).collect()
}

/// `code file:line:column` of each finding.
fn told(text: &str, rows: &str) -> Vec<String> {
    let (description, mut findings) = read(text, &[("branches", rows), ("branches.json", rows)]);
    if !any_stops(&findings) {
        findings.extend(build(&description, &supplied()).findings);
    }
    let place = |finding: &Finding| {
        let place = finding.place.as_ref().expect("a place");
        let source = description.source.file(&place.file).expect("a text");
        format!("{} {}:{}", finding.rule.code, place.file, source.position(place.span.start))
    };
    findings.iter().filter(|finding| finding.stops()).map(place).collect()
}

#[test]
fn a_star_joins_each_member_with_its_hub() {
    let built = built(&star(""), ROWS);
    assert_eq!(names(&built), ["packhouse--coldstore", "packhouse--nursery", "packhouse--press"]);
    assert!(built.tunnels.iter().all(|tunnel| tunnel.ends[0] == "packhouse"));
    let nursery = &built.tunnels[1].gateways[1];
    let nets: Vec<_> = nursery.crossing().into_iter().map(|(local, remote)| format!("{local} {remote}")).collect();
    assert_eq!(nets, ["10.74.0.0/24 10.41.0.0/22", "10.74.1.0/24 10.41.0.0/22"]);
    // The members open; each pair has a secret of its own.
    let secrets: Vec<_> = built.tunnels.iter().map(|tunnel| tunnel.gateways[1].secrets[0].secret.clone()).collect();
    assert!(secrets[0] != secrets[1] && secrets[1] != secrets[2]);
    assert!(built.trees["coldstore"].files["etc/swanctl/conf.d/packhouse--coldstore.conf"].text.contains("group.orchards.policy"));
}

#[test]
fn another_site_changes_nothing_of_the_other_pairs() {
    for shape in ["shape = \"mesh\"", "shape = \"star\"\nhubs = [\"packhouse\"]"] {
        let text = format!("{HEAD}\n[group.orchards]\n{shape}\nmembers = [\"packhouse\", \"branches\"]\nmaster = \"m\"\n");
        let before = built(&text, ROWS);
        let after = built(&text, &ROWS.replace("coldstore;", "apricots;203.0.113.90;10.90.0.0/24;\ncoldstore;"));
        assert!(after.tunnels.len() > before.tunnels.len());
        for (site, tree) in &before.trees {
            for (path, file) in &tree.files {
                assert_eq!(after.trees[site].files.get(path).map(|file| &file.text), Some(&file.text), "{site} {path}");
            }
        }
    }
}

#[test]
fn a_mesh_joins_everyone_and_a_list_whom_it_names() {
    let text = format!("{HEAD}\n[group.all]\nshape = \"mesh\"\nmembers = [\"branches\", \"packhouse\"]\nmaster = \"m\"\n");
    let mesh = built(&text, ROWS);
    assert_eq!(
        names(&mesh),
        ["coldstore--nursery", "coldstore--packhouse", "coldstore--press", "nursery--packhouse", "nursery--press", "packhouse--press"]
    );
    let rows =
        "Site,WAN,LAN,peers\ncoldstore,203.0.113.77,10.73.16.0/20,packhouse\npress,203.0.113.79,10.75.0.0/24,\"coldstore, packhouse\"\n";
    let text = text.replace("mesh", "listed");
    assert_eq!(names(&built(&text, rows)), ["packhouse--coldstore", "coldstore--press", "packhouse--press"]);
    assert_eq!(told(&text, &rows.replace(",packhouse\np", ",packhuose\np")), ["US301 branches:2:38"]);
}

#[test]
fn json_says_the_same_as_csv() {
    let rows = r#"[
        { "Site": "coldstore", "WAN": "203.0.113.77", "LAN": { "lan": "10.73.16.0/20" }, "Contact": null },
        { "Site": "nursery", "WAN": "203.0.113.78", "LAN": { "beds": "10.74.0.0/24", "office": "10.74.1.0/24" } },
        { "Site": "press", "gateway": { "address": "203.0.113.79" }, "networks": { "lan": "10.75.0.0/24" }, "as-number": 65001 }
    ]"#;
    let text = star("").replace("file = \"branches\"", "file = \"branches.json\"");
    assert_eq!(built(&text, rows).trees, built(&star(""), ROWS).trees);
    let wrong = rows.replace("10.73.16.0/20", "10.73.16.1/20");
    assert_eq!(told(&text, &wrong), ["US203 branches.json:2:71"]);
    assert_eq!(told(&text, "[[[[[[[[[[[[[[[[[[[["), ["US116 branches.json:1:17"]);
    assert_eq!(told(&text, "{}"), ["US116 branches.json:1:1"]);
    assert_eq!(told(&text, "[1, { \"WAN\": \"x\" }, { ]"), ["US116 branches.json:1:23"]);
}

#[test]
fn exceptions_change_one_pair_alone() {
    let plain = built(&star(""), ROWS);
    let except = r#"except = [
        { pair = ["packhouse", "press"], policy = { ike-lifetime = "4h" } },
        { pair = ["coldstore", "packhouse"], generation = 2 },
        { pair = ["packhouse", "nursery"], left-out = true },
    ]"#;
    let other = built(&star(except), ROWS);
    assert_eq!(names(&other), ["packhouse--coldstore", "packhouse--press"]);
    let life = |build: &Build, at: usize| build.tunnels[at].agreement.ike_lifetime.hard.as_secs();
    assert_eq!((life(&plain, 2), life(&other, 0), life(&other, 1)), (8 * 3600, 8 * 3600, 4 * 3600));
    let secret = |build: &Build, at: usize| build.tunnels[at].gateways[0].secrets[0].secret.clone();
    assert!(secret(&plain, 0) != secret(&other, 0) && secret(&plain, 2) == secret(&other, 1));
    assert_eq!(told(&star("except = [{ pair = [\"press\", \"nursery\"], left-out = true }]"), ROWS).len(), 1);
}

#[test]
fn the_secret_of_a_pair_is_that_of_rfc_5869() {
    let master = Secret::new(MASTER.as_bytes().to_vec());
    // Computed with HMAC of another library, step by step.
    let expected = "be56bcd556beeba9d395c3d8ded449e9aa455817d6d9975ed83e2485619f6f72";
    assert_eq!(master.of_pair(["packhouse", "coldstore"], 1).expose(), expected.as_bytes());
    assert_eq!(master.of_pair(["coldstore", "packhouse"], 1).expose(), expected.as_bytes());
    // Names do not run into each other.
    assert!(master.of_pair(["ab", "c"], 1) != master.of_pair(["a", "bc"], 1));
    assert!(master.of_pair(["ab", "c"], 1) != master.of_pair(["ab", "c"], 2));
}

/// Whoever has the master secret has all of them: a sheet neither names it for handing over, nor shows its fingerprint.
#[test]
fn the_master_secret_is_never_handed_over() {
    let (description, _) = read(&star(""), &[("branches", ROWS)]);
    let built = built(&star(""), ROWS);
    let supplied = supplied();
    let sheets: Vec<_> = built.tunnels.iter().filter_map(|tunnel| sheet(&description, tunnel, &built, &supplied)).collect();
    let given: Vec<_> = sheets.iter().flat_map(|sheet| &sheet.handovers).collect();
    assert_eq!(given.len(), 3);
    assert!(given.iter().all(|one| one.how.contains("never the master") && one.command.contains("< FILE;")), "{given:?}");
    let shown: BTreeSet<_> = given.iter().map(|one| one.check.clone().expect("a fingerprint")).collect();
    let master = |tunnel: &Tunnel| {
        let sites = description.ends(tunnel).map(|site| site.name.value.as_str());
        fingerprint(&Secret::new(MASTER.as_bytes().to_vec()), &tunnel.name.value, sites)
    };
    assert!(shown.len() == 3 && !description.tunnels.iter().any(|tunnel| shown.contains(&master(tunnel))), "{shown:?}");
}

/// Hub and members with routes that steer.
fn routed(text: &str) -> String {
    text.replace("platform = \"libreswan\"", "platform = \"libreswan\"\nstyle = \"route-based\"")
        .replace("platform = \"strongswan\", gateway", "platform = \"strongswan\", style = \"route-based\", gateway")
}

const TRANSIT: &str = "transit = [\"10.72.0.0/14\"]";

#[test]
fn members_reach_each_other_through_the_hub() {
    let text = routed(&star(TRANSIT));
    let through = built(&text, ROWS);
    let crossing = |tunnel: usize, end: usize| -> Vec<String> {
        let pairs = through.tunnels[tunnel].gateways[end].crossing();
        pairs.into_iter().map(|(local, remote)| format!("{local} {remote}")).collect()
    };
    assert_eq!(crossing(0, 0), ["10.41.0.0/22 10.73.16.0/20", "10.72.0.0/14 10.73.16.0/20"]);
    assert_eq!(crossing(0, 1), ["10.73.16.0/20 10.41.0.0/22", "10.73.16.0/20 10.72.0.0/14"]);
    // Two networks of one member lie in what is beyond the hub: between them nothing is stopped but what takes the internet.
    let nursery = through.tunnels[1].gateways[1].filter.as_ref().expect("a filter");
    let net = |text: &str| text.parse().expect("a network");
    let packet =
        |protection| Packet { hook: Hook::Forward, from: net("10.74.0.0/24"), to: net("10.74.1.0/24"), protection, traffic: Traffic::Any };
    assert_eq!(nursery.verdict(&packet(Protection::Any)), None);
    assert_eq!(nursery.verdict(&packet(Protection::Into("wan0".to_owned()))), Some(Verdict::Drop));
    // What comes out of one tunnel may be too large for another one: all are as narrow as the narrowest.
    let mtu = |build: &Build| build.tunnels.iter().map(|tunnel| tunnel.agreement.inner_mtu).collect::<BTreeSet<_>>();
    let behind = ROWS.replace("Site;WAN;", "Site;gateway.own-address;WAN;").replace("press;", "press;10.99.0.2;");
    let behind = behind.replace("coldstore;", "coldstore;;").replace("nursery;", "nursery;;");
    assert_eq!(mtu(&built(&routed(&star("")), &behind)).len(), 2);
    assert_eq!(mtu(&built(&text, &behind)), mtu(&through));
    // Another member changes nothing of those that are there.
    let after = built(&text, &ROWS.replace("coldstore;", "apricots;203.0.113.90;10.75.90.0/24;\ncoldstore;"));
    for (site, tree) in &through.trees {
        assert!(tree.files.iter().all(|(path, file)| after.trees[site].files[path].text == file.text), "{site}");
    }
    // What stands beyond the hub belongs to this group alone.
    let other = format!(
        "{text}[site.barn]\nplatform = \"strongswan\"\ngateway = {{ address = \"203.0.113.99\", outside = \"eth0\", inside = \"eth1\" }}\nnetworks = {{ lan = \"10.80.0.0/24\" }}\n[group.more]\nshape = \"star\"\nhubs = [\"packhouse\"]\nmembers = [\"barn\"]\nmaster = \"m\"\n"
    );
    let both = built(&other, ROWS);
    assert_eq!(both.tunnels[3].gateways[1].crossing().len(), 1);
}

#[test]
fn of_two_hubs_the_first_one_is_taken() {
    let hub = "\n[site.barn]\nplatform = \"strongswan\"\nstyle = \"route-based\"\ngateway = { address = \"198.51.100.21\", outside = \"eth0\", inside = \"eth1\" }\nnetworks = { office = \"10.41.0.0/22\" }\n";
    let text = star(hub).replace("hubs = [\"packhouse\"]", "hubs = [\"packhouse\", \"barn\"]");
    // Selectors cannot say which one.
    assert!(told(&text, ROWS).iter().any(|found| found.starts_with("US330")), "{:?}", told(&text, ROWS));
    let built = built(&routed(&text), ROWS);
    assert_eq!(built.tunnels.len(), 6);
    let metric = |name: &str| {
        let tunnel = built.tunnels.iter().find(|tunnel| tunnel.name == name).expect("a tunnel");
        tunnel.gateways[1].routes.iter().map(|route| route.metric).collect::<Vec<_>>()
    };
    assert_eq!((metric("packhouse--press"), metric("barn--press")), (vec![10, 4096], vec![20, 4097]));
    // The other members are reached through either, in the same order.
    let through = self::built(&routed(&text.replace("master = \"m\"", &format!("master = \"m\"\n{TRANSIT}"))), ROWS);
    let press = through.tunnels.iter().filter(|tunnel| tunnel.ends[1] == "press").map(|tunnel| &tunnel.gateways[1]);
    let transit: Vec<_> =
        press.map(|press| press.routes.iter().find(|route| route.to.to_string() == "10.72.0.0/14").expect("a route").metric).collect();
    assert_eq!(transit, [10, 20]);
}

#[test]
fn links_come_from_a_pool_and_coincidences_are_found() {
    let routed = routed(&star("links = \"10.255.0.0/16\""));
    let built = built(&routed, ROWS);
    let addresses: Vec<_> =
        built.tunnels.iter().flat_map(|tunnel| &tunnel.gateways).map(|gateway| gateway.interfaces[0].addresses[0]).collect();
    assert!(addresses.chunks(2).all(|pair| pair[0] != pair[1] && pair[0].trunc() == pair[1].trunc()), "{addresses:?}");
    // One link for three pairs: the hub would have the same one several times.
    let narrow = routed.replace("10.255.0.0/16", "10.255.0.0/31");
    assert!(told(&narrow, ROWS).iter().all(|found| found.starts_with("US333 branches:")), "{:?}", told(&narrow, ROWS));
    assert_eq!(told(&narrow, ROWS).len(), 2);
}

#[test]
fn what_is_wrong_is_told_where_it_stands() {
    let cases: &[(&str, String, &str, &[&str])] = &[
        ("a row too short", star(""), "Site,WAN,LAN\ncoldstore,203.0.113.77\n", &["US116 branches:2:1"]),
        ("no name", star(""), "WAN,LAN\n203.0.113.77,10.73.16.0/20\n", &["US116 branches:1:1", "US116 branches:1:1"]),
        ("a row without name", star(""), "Site,WAN,LAN\n,203.0.113.77,10.73.16.0/20\n", &["US116 branches:2:1"]),
        ("a bad address", star(""), "Site,WAN,LAN\ncoldstore, 203.0.113.777 ,10.73.16.0/20\n", &["US201 branches:2:12"]),
        ("a bad name", star(""), "Site,WAN,LAN\nCold Store,203.0.113.77,10.73.16.0/20\n", &["US109 branches:2:1"]),
        (
            "a name twice",
            star(""),
            "Site,WAN,LAN\nx,203.0.113.77,10.73.16.0/20\n\"x\",203.0.113.78,10.74.16.0/20\n",
            &["US117 branches:3:2"],
        ),
        ("host bits", star(""), "Site,WAN,LAN\nx,203.0.113.77,a=10.73.16.0/20 b=10.74.0.1/24\n", &["US203 branches:2:34"]),
        ("a policy of one", star("policy = { initiator = \"press\" }"), ROWS, &["US332 fleet.span.toml:20:24"]),
        ("no master", star("").replace("master = \"m\"\n", ""), ROWS, &["US107 fleet.span.toml:15:8"]),
        ("members that selectors steer", star(TRANSIT), ROWS, &["US334 branches:2:1", "US334 branches:3:1", "US334 branches:4:1"]),
        (
            "nothing to go through",
            star(TRANSIT).replace("\"star\"\nhubs = [\"packhouse\"]", "\"mesh\""),
            ROWS,
            &["US334 fleet.span.toml:19:11"],
        ),
        ("members within a member", routed(&star("transit = [\"10.73.24.0/21\"]")), ROWS, &["US208 branches:2:24"]),
        (
            "one pair with a narrower path",
            routed(&star(&format!("{TRANSIT}\nexcept = [{{ pair = [\"packhouse\", \"press\"], policy = {{ path-mtu = 1400 }} }}]"))),
            ROWS,
            &["US334 fleet.span.toml:22:66"],
        ),
        ("no hub", star("").replace("hubs = [\"packhouse\"]\n", ""), ROWS, &["US330 fleet.span.toml:15:8"]),
        ("an unknown member", star("").replace("[\"branches\"]", "[\"branchs\"]"), ROWS, &["US301 fleet.span.toml:18:12"]),
        (
            "an unknown column",
            star("").replace("networks = \"LAN\"", "netwroks = \"LAN\""),
            ROWS,
            &["US107 branches:2:1", "US107 branches:3:1", "US107 branches:4:1", "US105 fleet.span.toml:12:55"],
        ),
    ];
    for (what, text, rows, expected) in cases {
        assert_eq!(told(text, rows), *expected, "{what}");
    }
    let (_, findings) = read(&star(""), &[]);
    assert_eq!(findings.iter().map(|finding| finding.rule.code).collect::<Vec<_>>(), ["US115"]);
}

/// Many rows are read in pieces: what is found in them, and in which order, does not depend on it. Quotes may hold line ends.
#[test]
fn a_long_inventory_reads_like_a_short_one() {
    const ROWS: usize = 9000;
    let row = |number: usize, more: &str, remark: &str| {
        let (high, low) = (number / 256, number % 256);
        format!("branch-{number}{more};203.0.{high}.{low};10.{}.{low}.0/24;{remark}\r\n", 100 + high)
    };
    let whole = |remark: &str| {
        let mut rows = "Site;WAN;LAN;Contact\r\n".to_owned();
        for number in 0..ROWS {
            rows.push_str(&row(number, if [3, 8997].contains(&number) { "-with-an-ü" } else { "" }, remark));
        }
        rows + "branch-5;203.0.113.1;10.90.0.0/24;the same name again\r\n"
    };
    for remark in ["a remark that makes it longer", "\"a remark;\r\nbranch-7;and more of it\""] {
        let (rows, lines) = (whole(remark), remark.lines().count());
        assert!(rows.len() > 500_000);
        let (description, findings) = read(&star(""), &[("branches", &rows)]);
        let at = |finding: &Finding| {
            let place = finding.place.as_ref().expect("a place");
            (finding.rule.code, description.source.file(&place.file).expect("a text").position(place.span.start).line - 2)
        };
        assert_eq!(
            findings.iter().map(at).collect::<Vec<_>>(),
            [("US109", 3 * lines), ("US109", 8997 * lines), ("US117", ROWS * lines)],
            "{remark}"
        );
        let sound = (0..ROWS).filter(|number| ![3, 8997].contains(number)).map(|number| format!("branch-{number}"));
        let names: Vec<_> = description.sites.iter().map(|site| site.name.value.clone()).collect();
        assert_eq!(names, ["packhouse".to_owned()].into_iter().chain(sound).chain(["branch-5".to_owned()]).collect::<Vec<_>>());
    }
}

proptest! {
    /// Whatever stands in an inventory, it is read or found fault with.
    #[test]
    fn no_inventory_is_too_bad(rows in "[A-Za-z0-9=./:;,\"\\[\\]{} \n\r\t\u{fc}\u{feff}-]{0,200}", json in any::<bool>()) {
        let text = star("");
        let text = if json { text.replace("file = \"branches\"", "file = \"branches.json\"") } else { text };
        let rows = if json { rows } else { format!("Site,WAN,LAN\n{rows}") };
        let (description, findings) = read(&text, &[("branches", &rows), ("branches.json", &rows)]);
        for finding in findings.iter().filter_map(|finding| finding.place.as_ref()) {
            let source = description.source.file(&finding.file).expect("a text");
            prop_assert!(finding.span.start <= source.text().len());
            source.position(finding.span.start);
        }
    }
}
