//! What is built is taken up by the real daemons' own loaders, without a warning: swanctl with a running
//! charon, addconn and whack with a running pluto, and nft.
//!
//! Needs root and Debian's packages, which it installs. Where that is not possible it says so loudly;
//! with CI=true that is a failure.

#[path = "../../core/tests/common/known.rs"]
mod known;

use std::fmt::Write as _;
use std::sync::LazyLock;

use uspan_core::algorithm::{Kind, PRESETS, Row, Transform};
use uspan_core::{Description, Sa, Secret, SecretFile, Source, Supplied, build};
use uspan_lab::Lab;

static LAB: LazyLock<Lab> = LazyLock::new(|| Lab::ready(&uspan_lab::default_cache()).expect("the lab runs here"));

struct Case {
    name: String,
    text: String,
    secret: Vec<u8>,
}

const ADDRESSES: [&str; 2] = ["198.51.100.20", "203.0.113.77"];

/// A description between two platforms, with more lines for the sites and the tunnel.
fn describe(platforms: [&str; 2], addresses: [&str; 2], sites: [&str; 2], tunnel: &str) -> String {
    let mut text = "unified-span = 1\n".to_owned();
    for (i, name) in ["packhouse", "coldstore"].iter().enumerate() {
        let network = if addresses[i].contains(':') { format!("2001:db8:{}::/64", 7 + i) } else { format!("10.{}.0.0/16", 41 + i) };
        let _ = write!(
            text,
            "[site.{name}]\nplatform = \"{}\"\ngateway = {{ address = \"{}\", outside = \"outside\", inside = \"lan0\" }}\n\
             networks = {{ net = \"{network}\" }}\nshares-internet = true\n{}\n",
            platforms[i], addresses[i], sites[i]
        );
    }
    let _ = write!(text, "[tunnel.harvest]\nbetween = [\"packhouse\", \"coldstore\"]\nsecret = {{ file = \"k\" }}\n{tunnel}\n");
    text
}

/// Builds a case and lets both ends' daemons load it; returns what went wrong.
fn run(lab: &Lab, case: &Case) -> Vec<String> {
    let (description, findings) = Description::parse(&Source::new("case.span.toml", case.text.as_str()), known::context());
    assert!(findings.is_empty(), "{}: {findings:#?}\n{}", case.name, case.text);
    let file = SecretFile::Read { secret: Secret::new(case.secret.clone()), guesses_log10: 40.0, drawn: true, exposed: false };
    let built = build(&description, &Supplied { secrets: [("k".to_owned(), file)].into(), ..Supplied::default() });
    assert!(!uspan_core::any_stops(&built.findings), "{}: {:#?}", case.name, built.findings);
    let mut wrong = Vec::new();
    for site in &description.sites {
        let word = &*site.platform.value.word;
        let loaded = lab.load(word, &built.trees[&site.name.value], &site.address.value.to_string()).expect("the lab runs");
        // What each loader says when it has taken something up, beside not complaining.
        let taken = match word {
            "strongswan" => vec!["loaded ike secret 'ike-harvest'", "successfully loaded 1 connections"],
            "openiked" => vec!["configuration OK", "iked exit 0"],
            _ => vec!["loading secrets from \"/etc/ipsec.d/harvest.secrets\"", "status: 000 \"harvest_", "oriented;"],
        };
        let missing = taken.into_iter().filter(|text| !loaded.says(text)).map(|text| format!("lacks: {text}"));
        let complaints: Vec<_> = loaded.complaints().into_iter().map(str::to_owned).chain(missing).collect();
        wrong.extend(complaints.into_iter().map(|line| format!("{} on {word}: {line}", case.name)));
    }
    wrong
}

fn prove(cases: &[Case]) {
    let lab = &*LAB;
    let wrong: Vec<_> = cases.iter().flat_map(|case| run(lab, case)).collect();
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

fn case(name: impl Into<String>, text: String) -> Case {
    Case { name: name.into(), text, secret: b"Kq8vT2mXr0ZpL4nWc7YbD1sHfJ6gUeA9tRoEiNvB3xM".to_vec() }
}

const BOTH: [&str; 2] = ["strongswan", "libreswan"];

#[test]
#[ignore = "needs root on Debian 12, and installs the daemons: ./test turns it on"]
fn the_demo_is_loaded_without_a_warning() {
    let lab = &*LAB;
    let text = include_str!("../../core/demo/orchard.span.toml").replace("secrets/harvest.key", "k");
    let (description, _) = Description::parse(&Source::new("orchard.span.toml", text), known::context());
    let file = SecretFile::Read {
        secret: Secret::new(b"Kq8vT2mXr0ZpL4nWc7YbD1sHfJ6gUeA9tRoEiNvB3xM".to_vec()),
        guesses_log10: 40.0,
        drawn: true,
        exposed: false,
    };
    let built = build(&description, &Supplied { secrets: [("k".to_owned(), file)].into(), ..Supplied::default() });
    let packhouse = lab.load("strongswan", &built.trees["packhouse"], "198.51.100.20").expect("the lab runs");
    assert!(packhouse.complaints().is_empty(), "{:#?}", packhouse.complaints());
    assert!(packhouse.says("loaded connection 'harvest'") && packhouse.says("swanctl exit 0"), "{packhouse:#?}");
    let coldstore = lab.load("libreswan", &built.trees["coldstore"], "203.0.113.77").expect("the lab runs");
    assert!(coldstore.complaints().is_empty(), "{:#?}", coldstore.complaints());
    assert!(coldstore.says("addconn exit 0") && coldstore.says("harvest_graders_racks") && coldstore.says("nft exit 0"), "{coldstore:#?}");
}

#[test]
#[ignore = "needs root on Debian 12, and installs the daemons: ./test turns it on"]
fn every_strength_is_loaded_in_every_order_of_platforms() {
    let orders = known::context().of_ours().flat_map(|a| known::context().of_ours().map(move |b| [&*a.word, &*b.word]));
    let cases = orders.flat_map(|order| {
        PRESETS.iter().map(move |preset| {
            case(format!("{} {order:?}", preset.name), describe(order, ADDRESSES, ["", ""], &format!("strength = \"{}\"", preset.name)))
        })
    });
    prove(&cases.collect::<Vec<_>>());
}

/// Rows a platform can do for an SA, the weak ones too.
fn able(kind: Kind, sa: Sa, platform: usize) -> Vec<&'static Row> {
    let facts = known::profile(platform);
    kind.rows().iter().filter(|row| facts.can(Transform::of(row), sa)).collect()
}

/// Every row of a platform's tables in proposals of one tunnel between two such gateways: if one spelling
/// were wrong, the loader would refuse the connection.
fn whole_table(platform: usize) -> String {
    let weak = |row: &&Row| row.strength == 0;
    let group = "ecp-256";
    let mut ike = Vec::new();
    let prfs = able(Kind::Prf, Sa::Ike, platform);
    for (i, cipher) in able(Kind::Encryption, Sa::Ike, platform).into_iter().enumerate() {
        ike.push(match cipher.aead {
            true => format!("{{ encryption = \"{}\", prf = \"{}\", group = \"{group}\" }}", cipher.name, prfs[i % prfs.len()].name),
            false => format!("{{ encryption = \"{}\", integrity = \"sha2-256\", group = \"{group}\" }}", cipher.name),
        });
    }
    for integrity in able(Kind::Integrity, Sa::Ike, platform) {
        ike.push(format!("{{ encryption = \"aes-128-cbc\", integrity = \"{}\", group = \"{group}\" }}", integrity.name));
    }
    for group in able(Kind::KeyExchange, Sa::Ike, platform) {
        ike.push(format!("{{ encryption = \"aes-256-cbc\", integrity = \"sha2-512\", group = \"{}\" }}", group.name));
    }
    let mut esp = Vec::new();
    for cipher in able(Kind::Encryption, Sa::Esp, platform).into_iter().filter(|row| !weak(row)) {
        esp.push(match cipher.aead {
            true => format!("{{ encryption = \"{}\" }}", cipher.name),
            false => format!("{{ encryption = \"{}\", integrity = \"sha2-256\" }}", cipher.name),
        });
    }
    for integrity in able(Kind::Integrity, Sa::Esp, platform) {
        esp.push(format!("{{ encryption = \"aes-128-cbc\", integrity = \"{}\" }}", integrity.name));
    }
    let rows = Kind::ALL.iter().flat_map(|kind| kind.rows()).filter(|row| !row.weak.is_empty() && !row.name.is_empty());
    let mut names: Vec<_> = rows.map(|row| format!("\"{}\" = \"only to prove the table\"", row.name)).collect();
    names.sort_unstable();
    names.dedup();
    format!("allows-weak = {{ {} }}\nike = [{}]\nesp = [{}]\npfs = \"{group}\"", names.join(", "), ike.join(", "), esp.join(", "))
}

#[test]
#[ignore = "needs root on Debian 12, and installs the daemons: ./test turns it on"]
fn every_spelling_of_the_tables_is_known_to_its_daemon() {
    let cases = known::context().of_ours().enumerate().map(|(i, platform)| {
        let word = &*platform.word;
        case(format!("table of {word}"), describe([word, word], ADDRESSES, ["", ""], &whole_table(i)))
    });
    prove(&cases.collect::<Vec<_>>());
}

#[test]
#[ignore = "needs root on Debian 12, and installs the daemons: ./test turns it on"]
fn every_kind_of_identity_is_loaded() {
    let kinds = [
        "identity = { name = \"NAME.example.net\" }",
        "identity = { mail = \"gate+7@NAME.example.net\" }",
        "identity = { free = \"NAME/gate-7:x+_.\" }",
    ];
    let cases = kinds.iter().flat_map(|kind| {
        let sites = ["packhouse", "coldstore"].map(|name| kind.replace("NAME", name));
        [BOTH, ["libreswan", "strongswan"]].map(|order| case(*kind, describe(order, ADDRESSES, [&sites[0], &sites[1]], "")))
    });
    prove(&cases.collect::<Vec<_>>());
}

#[test]
#[ignore = "needs root on Debian 12, and installs the daemons: ./test turns it on"]
fn roles_times_and_filter_forms_are_loaded() {
    let tunnels = [
        "opens = \"on-traffic\"\ninitiator = \"packhouse\"",
        "initiator = \"coldstore\"\nliveness = \"10s\"",
        "opens = \"by-hand\"\nliveness = \"off\"",
        "ike-lifetime = \"24h\"\nesp-lifetime = \"5m\"\npfs = false",
        "note = \"}; { # \\\" \\\\ ' $(x) `y`\"",
    ];
    let joined = "filter = \"joined\"\nnote = \"}; { # \\\" \\\\ ' $(x) `y`\"";
    let cases =
        tunnels.iter().flat_map(|tunnel| [["", joined], [joined, ""]].map(|sites| case(*tunnel, describe(BOTH, ADDRESSES, sites, tunnel))));
    prove(&cases.collect::<Vec<_>>());
}

#[test]
#[ignore = "needs root on Debian 12, and installs the daemons: ./test turns it on"]
fn ipv6_is_loaded() {
    let addresses = ["2001:db8:1::20", "2001:db8:2::77"];
    let text = describe(BOTH, addresses, ["", "filter = \"joined\""], "");
    let turned = describe(["libreswan", "strongswan"], addresses, ["filter = \"joined\"", ""], "");
    prove(&[case("IPv6", text), case("IPv6 turned", turned)]);
}

#[test]
#[ignore = "needs root on Debian 12, and installs the daemons: ./test turns it on"]
fn awkward_secrets_are_loaded() {
    let awkward: [&[u8]; 5] = [
        b"0x\"odd; secret # with \\ and ' quotes",
        b"0sbase64? no!",
        " ümläut €uro ".as_bytes(),
        &[0xff, 0xfe, 0x80, 0x01, 0x7f, 0x22],
        b"}",
    ];
    let cases = awkward.iter().map(|secret| Case {
        name: format!("{} bytes", secret.len()),
        text: describe(BOTH, ADDRESSES, ["", ""], ""),
        secret: secret.to_vec(),
    });
    prove(&cases.collect::<Vec<_>>());
}

/// A hub with several tunnels: their files stand beside each other and are taken up together.
#[test]
#[ignore = "needs root on Debian 12, and installs the daemons: ./test turns it on"]
fn a_hub_with_three_tunnels_is_loaded_at_once() {
    let lab = &*LAB;
    for hub in ["strongswan", "libreswan"] {
        let mut text = format!(
            "unified-span = 1\n[site.hub]\nplatform = \"{hub}\"\ngateway = {{ address = \"198.51.100.20\", outside = \"outside\", inside = \"lan0\" }}\n\
             networks = {{ office = \"10.41.0.0/22\", graders = \"10.41.8.0/24\" }}\nshares-internet = true\n"
        );
        let mut secrets = std::collections::BTreeMap::new();
        for (i, spoke) in ["coldstore", "press", "market"].iter().enumerate() {
            let platform = BOTH[i % 2];
            let _ = write!(
                text,
                "[site.{spoke}]\nplatform = \"{platform}\"\ngateway = {{ address = \"203.0.113.{}\", outside = \"eth0\", inside = \"eth1\" }}\n\
                 networks = {{ lan = \"10.{}.0.0/16\" }}\n[tunnel.to-{spoke}]\nbetween = [\"hub\", \"{spoke}\"]\nsecret = {{ file = \"{spoke}\" }}\n",
                10 + i,
                73 + i
            );
            let secret = Secret::new(format!("Kq8vT2mXr0ZpL4nWc7YbD1sHfJ6gUeA9tRoEiNvB3xM{i}").into_bytes());
            secrets.insert((*spoke).to_owned(), SecretFile::Read { secret, guesses_log10: 40.0, drawn: true, exposed: false });
        }
        let (description, findings) = Description::parse(&Source::new("hub.span.toml", text), known::context());
        assert_eq!(findings, []);
        let built = build(&description, &Supplied { secrets, ..Supplied::default() });
        assert_eq!(built.findings, []);
        let loaded = lab.load(hub, &built.trees["hub"], "198.51.100.20").expect("the lab runs");
        assert!(loaded.complaints().is_empty(), "{hub}: {:#?}", loaded.complaints());
        let taken: &[&str] = match hub {
            "strongswan" => &["successfully loaded 3 connections", "ike-to-coldstore", "ike-to-press", "ike-to-market"],
            _ => &["\"to-coldstore_office_lan\"", "\"to-press_graders_lan\"", "\"to-market_office_lan\"", "to-market.secrets"],
        };
        assert!(taken.iter().all(|text| loaded.says(text)), "{hub}: {:#?}", loaded.lines);
        assert_eq!(loaded.lines.iter().filter(|line| *line == "nft exit 0").count(), 9);
    }
}

/// The loaders' verdicts mean something: what is wrong is complained about.
#[test]
#[ignore = "needs root on Debian 12, and installs the daemons: ./test turns it on"]
fn a_spoilt_tree_is_complained_about() {
    let lab = &*LAB;
    let (description, _) = Description::parse(&Source::new("x", describe(BOTH, ADDRESSES, ["", ""], "")), known::context());
    let file = SecretFile::Read {
        secret: Secret::new(b"Kq8vT2mXr0ZpL4nWc7YbD1sHfJ6gUeA9tRoEiNvB3xM".to_vec()),
        guesses_log10: 40.0,
        drawn: true,
        exposed: false,
    };
    let built = build(&description, &Supplied { secrets: [("k".to_owned(), file)].into(), ..Supplied::default() });
    for (site, platform, address, path, old, new) in [
        ("packhouse", "strongswan", ADDRESSES[0], "etc/swanctl/conf.d/harvest.conf", "aes256gcm16", "aes257gcm16"),
        ("coldstore", "libreswan", ADDRESSES[1], "etc/ipsec.d/harvest.conf", "aes_gcm256", "aes_gcm257"),
        ("coldstore", "libreswan", ADDRESSES[1], "etc/nftables.d/uspan-harvest.nft", "saddr", "sadr"),
    ] {
        let mut tree = built.trees[site].clone();
        let file = tree.files.get_mut(path).expect("there");
        file.text = file.text.replace(old, new);
        let loaded = lab.load(platform, &tree, address).expect("the lab runs");
        assert!(!loaded.complaints().is_empty(), "{path}: {loaded:#?}");
    }
}

/// Two hosts on one link, each with the other's address, and with the rules that are built for a tunnel between them; no daemon runs.
#[test]
#[ignore = "needs root on Debian 12: ./test turns it on"]
fn hosts_on_one_link_find_each_other_before_there_is_an_sa() {
    let _ = &*LAB;
    let addresses = ["2001:db8:7::20", "2001:db8:7::77"];
    for filter in ["nftables", "iptables"] {
        let site = |name: &str, platform: &str, address: &str| {
            format!(
                "[site.{name}]\nplatform = \"{platform}\"\npacket-filter = \"{filter}\"\ngateway = {{ address = \"{address}\", outside = \"e0\" }}\n"
            )
        };
        let text = format!(
            "unified-span = 1\n{}{}[tunnel.harvest]\nbetween = [\"packhouse\", \"coldstore\"]\nsecret = {{ file = \"k\" }}\ncarries = \"gateways\"\n",
            site("packhouse", "strongswan", addresses[0]),
            site("coldstore", "libreswan", addresses[1])
        );
        let (description, findings) = Description::parse(&Source::new("hosts.span.toml", text.as_str()), known::context());
        assert_eq!(findings, []);
        let secret = Secret::new(b"Kq8vT2mXr0ZpL4nWc7YbD1sHfJ6gUeA9tRoEiNvB3xM".to_vec());
        let file = SecretFile::Read { secret, guesses_log10: 40.0, drawn: true, exposed: false };
        let built = build(&description, &Supplied { secrets: [("k".to_owned(), file)].into(), ..Supplied::default() });
        let folder = tempfile::tempdir().expect("a folder");
        for name in ["packhouse", "coldstore"] {
            for (path, file) in &built.trees[name].files {
                let path = folder.path().join(name).join(path);
                std::fs::create_dir_all(path.parent().expect("a folder")).expect("made");
                std::fs::write(path, &file.text).expect("written");
            }
        }
        // In namespaces of their own, which end with the shell; what is sent is lost, as nobody listens.
        let load = match filter {
            "nftables" => "nft -f etc/nftables.d/uspan-harvest.nft",
            _ => {
                "ip6tables-restore --noflush < etc/iptables/uspan-harvest.v6; ip6tables-restore --noflush < etc/iptables/uspan-harvest.v6-jumps"
            }
        };
        let script = format!(
            "set -e; cd {}; unshare -n sleep 60 & far=$!; sleep 0.3; trap 'kill $far' EXIT\n\
             far() {{ nsenter -t $far -n sh -ec \"$*\"; }}\n\
             ip link add e0 type veth peer name e0 netns $far\n\
             set_up() {{ echo \"ip link set lo up; ip addr add $1/64 dev e0 nodad; ip link set e0 up\"; }}\n\
             sh -ec \"$(set_up {})\"; far \"$(set_up {})\"\n\
             (cd packhouse; {load}); (cd coldstore; far '{load}')\n\
             for n in 1 2 3 4 5 6 7 8; do echo x >/dev/udp/{}/500; sleep 0.5; \
             ip -6 neigh show to {} | grep lladdr && exit 0; done; ip -6 neigh; exit 1",
            folder.path().display(),
            addresses[0],
            addresses[1],
            addresses[1],
            addresses[1]
        );
        let ran = std::process::Command::new("unshare").args(["-n", "bash", "-c", &script]).output().expect("a shell");
        let said = [ran.stdout, ran.stderr].concat();
        assert!(ran.status.success(), "{filter}: {}", String::from_utf8_lossy(&said));
    }
}
