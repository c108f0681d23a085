//! Files that people wrote: everything their formats allow, read as the daemons read them.

use crate::known;
use proptest::prelude::*;
use proptest::sample::select;
use uspan_core::*;

fn tree(files: &[(&str, &str)]) -> Tree {
    let mut tree = Tree::default();
    for (path, text) in files {
        tree.add(*path, TreeFile::public((*text).to_owned()));
    }
    tree
}

fn read(files: &[(&str, &str)]) -> (Gateway, Vec<String>) {
    let tree = tree(files);
    let platforms = known::context().profiles_of(&tree);
    assert_eq!(platforms.len(), 1, "{platforms:?}");
    let (gateway, findings) = known::read_as(platforms[0], &tree);
    let said = |finding: &Finding| format!("{} {}", finding.rule.code, finding.message);
    (gateway, findings.iter().map(said).collect())
}

/// Reads files in which nothing is to be found.
fn clean(files: &[(&str, &str)]) -> Gateway {
    let (gateway, findings) = read(files);
    assert_eq!(findings, [""; 0]);
    gateway
}

fn nets(list: &[ipnet::IpNet]) -> Vec<String> {
    list.iter().map(ToString::to_string).collect()
}

// ---- swanctl.conf(5), strongswan.conf(5) -----------------------------------------------------------

const MAIN: &str = "etc/swanctl/swanctl.conf";

#[test]
fn sections_are_inherited_and_own_settings_come_first() {
    let gateway = clean(&[(
        MAIN,
        r#"
# The defaults stand after their first use, and take from each other.
connections {
    harvest : defaults.conn, defaults.watched
    {
        remote_addrs = 203.0.113.77   # who answers
        children { racks : defaults.child { remote_ts = 10.73.16.0/20, 10.73.32.0/24 } }
    }
}
defaults {
    conn {
        version=2
        local_addrs = 198.51.100.20
        proposals = aes256-sha256-modp2048,\
            aes128-sha256-modp2048
        dpd_delay = 10s
        local-main { auth = psk
            id = packhouse.example.net }
        remote1 { auth = psk
            id = "coldstore.example.net" }
    }
    watched {
        dpd_delay = 99s
        encap = yes
    }
    child : defaults.life { local_ts = 10.41.0.0/22
        start_action = trap }
    life { life_time = 30m
        rekey_time = 20m }
}
secrets {
    ike-harvest { id-a = packhouse.example.net
        id-b = coldstore.example.net
        secret = 0sc2VjcmV0IG9mIHRoZSBvcmNoYXJk }
}
"#
        .replace("\\\n            ", " ")
        .as_str(),
    )]);
    let connection = &gateway.connections[0];
    assert_eq!((connection.name.as_str(), connection.version()), ("harvest", IkeVersion::V2));
    assert_eq!(connection.remote.value.to_string(), "203.0.113.77");
    assert_eq!(connection.ike().local_identity.value, Identity::Name("packhouse.example.net".to_owned()));
    assert_eq!(connection.ike().remote_identity.value, Identity::Name("coldstore.example.net".to_owned()));
    assert_eq!(connection.ike().liveness.value.map(|interval| interval.as_secs()), Some(10), "the first reference goes before the second");
    assert_eq!(connection.encapsulation.value, Encapsulation::Forced);
    assert_eq!(connection.ike().proposals.value.len(), 2);
    let child = &connection.children[0];
    assert_eq!(
        (nets(&child.local.value), nets(&child.remote.value)),
        (vec!["10.41.0.0/22".to_owned()], vec!["10.73.16.0/20".to_owned(), "10.73.32.0/24".to_owned()])
    );
    assert_eq!((child.lifetime.value.hard.as_secs(), child.opening.value), (1800, Opening::TRAP));
    assert_eq!(gateway.secret_for(connection), Some(&Secret::new(b"secret of the orchard".to_vec())));
}

#[test]
fn included_files_stand_where_they_are_included_and_what_comes_later_counts() {
    let (gateway, found) = read(&[
        (MAIN, "connections {\n  a {\n    dpd_delay = 1s\n    include parts/*.part\n    encap = no\n  }\n}\ninclude conf.d/*.conf\n"),
        ("etc/swanctl/parts/1.part", "dpd_delay = 2s\nencap = yes\nlocal {\n auth = psk\n}\nremote {\n auth = psk\n}\n"),
        ("etc/swanctl/parts/2.part", "remote_addrs = 203.0.113.1\n"),
        ("etc/swanctl/conf.d/x.conf", "connections {\n  a {\n    remote_addrs = 203.0.113.77\n    dpd_delay =\n  }\n}\n"),
        ("etc/swanctl/conf.d/not-included", "connections {\n"),
    ]);
    let told = "US810 `a` stands in /etc/swanctl/swanctl.conf, too: the daemon makes one of both, and what comes later counts";
    assert_eq!(found, [told]);
    let connection = &gateway.connections[0];
    assert_eq!(gateway.connections.len(), 1);
    assert_eq!(connection.remote.value.to_string(), "203.0.113.77");
    assert_eq!(connection.encapsulation.value, Encapsulation::Automatic, "what stands behind the include counts");
    assert_eq!((connection.ike().liveness.value, &connection.ike().liveness.origin), (None, &Origin::Default), "an empty value clears");
    let Origin::Stated(place) = &connection.remote.origin else { panic!("stated") };
    assert_eq!(&*place.file, "etc/swanctl/conf.d/x.conf");
}

#[test]
fn circles_and_missing_sections_are_named() {
    let (_, found) = read(&[(
        MAIN,
        "include swanctl.conf\ninclude nothing/*.conf\nconnections {\n a : b.c {\n local {\n auth = psk\n }\n remote {\n auth = psk\n }\n }\n}\nx : y { }\ny : x { }\n",
    )]);
    assert!(found.iter().any(|text| text.contains("included by itself")), "{found:?}");
    assert!(found.iter().any(|text| text.contains("includes no file")), "{found:?}");
    assert!(found.iter().any(|text| text.contains("no section `b.c`")), "{found:?}");
}

#[test]
fn what_is_left_out_is_the_daemons_default() {
    let (gateway, findings) = read(&[(
        MAIN,
        "connections {\n h {\n  local_addrs = 198.51.100.20\n  remote_addrs = 203.0.113.77\n  local {\n  }\n  remote {\n  }\n  children {\n   c {\n   }\n   d {\n    local_ts = dynamic[udp]\n    remote_ts = 10.0.0.1[17]\n   }\n  }\n }\n}\n",
    )]);
    // The certificate is whichever fits.
    assert_eq!(findings, ["US802 it does not say with which certificate this end proves itself: the daemon takes one that fits"]);
    let connection = &gateway.connections[0];
    // swanctl.conf(5): `auth` is pubkey, selectors are the addresses of the ends.
    assert_eq!(connection.ike().local_method.value, Method::Certificate);
    let child = &connection.children[0];
    assert_eq!(
        (nets(&child.local.value), nets(&child.remote.value)),
        (vec!["198.51.100.20/32".to_owned()], vec!["203.0.113.77/32".to_owned()])
    );
    assert_eq!((child.protocol.value, connection.children[1].protocol.value), (None, Some(17)));
    assert_eq!((child.lifetime.value.hard.as_secs(), child.replay_window.value), (3960, 32));
}

// ---- ipsec.conf(5), ipsec.secrets(5) ---------------------------------------------------------------

const CONF: &str = "etc/ipsec.conf";

#[test]
fn sections_take_over_others_and_the_defaults_and_old_words_are_known() {
    let gateway = clean(&[
        (
            CONF,
            "# what the package has\nversion 2.0\n\nconfig setup\n\tlogfile=/var/log/pluto.log\n\nconn %default\n\tkeylife = 20m\n\tIKElifetime=2h\n\tesn=no\n\
             include /etc/ipsec.d/*.conf  # the rest\n",
        ),
        (
            "etc/ipsec.d/a.conf",
            "conn harvest\n    also=ends\n    alsoflip=names\n    authby=secret # as ever\n    auto=up\n    phase2alg=aes256-sha2_256;modp2048\n    forceencaps=yes\n    x-note=\"by hand\"\n    dpddelay=\n\n\
             conn ends\n    left=198.51.100.20\n    right=203.0.113.77\n    leftsubnets={10.41.0.0/22, 10.41.8.0/24}\n    rightsubnet=10.73.16.0/20\n\n\
             conn names\n    leftid=@coldstore.example.net\n    rightid=\"@packhouse.example.net\"\n    keylife=10m\n",
        ),
    ]);
    assert_eq!(gateway.connections.len(), 1, "what others take over is no connection");
    let connection = &gateway.connections[0];
    assert_eq!(connection.ike().local_identity.value, Identity::Name("packhouse.example.net".to_owned()), "flipped");
    assert_eq!(connection.ike().remote_identity.value, Identity::Name("coldstore.example.net".to_owned()));
    assert_eq!((connection.ike().lifetime.value.hard.as_secs(), connection.encapsulation.value), (7200, Encapsulation::Forced));
    assert_eq!((connection.ike().local_method.value, connection.ike().liveness.value), (Method::SharedSecret, None));
    let children: Vec<_> = connection.children.iter().map(|child| (child.name.as_str(), nets(&child.local.value).join(","))).collect();
    assert_eq!(children, [("harvest/1x1", "10.41.0.0/22".to_owned()), ("harvest/2x1", "10.41.8.0/24".to_owned())]);
    let child = &connection.children[0];
    assert_eq!(
        (child.lifetime.value.hard.as_secs(), child.opening.value),
        (600, Opening::START),
        "what is taken over goes before the defaults"
    );
    assert_eq!(child.esp.value[0].to_string(), "aes-256-cbc + sha2-256, pfs modp-2048");
}

#[test]
fn an_end_without_networks_carries_itself_and_an_added_connection_waits() {
    let gateway = clean(&[(
        CONF,
        "conn hosts\n\tleft=198.51.100.20\n\tright=203.0.113.77\n\ttype=transport\n\tauthby=secret\n\tesn=no\nconn off\n\tleft=198.51.100.20\n\tright=203.0.113.78\n\tauto=ignore\n",
    )]);
    assert_eq!(gateway.connections.len(), 1);
    let child = &gateway.connections[0].children[0];
    assert_eq!(
        (nets(&child.local.value), nets(&child.remote.value)),
        (vec!["198.51.100.20/32".to_owned()], vec!["203.0.113.77/32".to_owned()])
    );
    assert_eq!((child.mode.value, child.opening.value), (Mode::Transport, Opening::WAIT));
}

#[test]
fn a_certificate_in_the_daemons_database_is_said_to_be_there_and_not_read() {
    let text = "conn a\n\tleft=198.51.100.20\n\tright=203.0.113.77\n\tleftcert=packhouse\n\tauthby=ecdsa,rsasig\n\tesn=no\n";
    let (gateway, found) = read(&[(CONF, text)]);
    assert_eq!(gateway.connections[0].ike().local_method.value, Method::Certificate);
    assert!(!found.is_empty() && found.iter().all(|text| text.starts_with("US802")), "{found:?}");
}

#[test]
fn secrets_are_found_for_whom_they_are_meant() {
    let secrets = ": PSK \"for anybody\"\n203.0.113.77 : PSK \"for the peer\"\n@packhouse.example.net\n\t@coldstore.example.net : psk\n\t\"for the two\"\n# no\ninclude /etc/ipsec.d/*.secrets\n";
    let conf = "conn a\n\tleft=198.51.100.20\n\tright=203.0.113.77\n\tauthby=secret\n\tesn=no\nconn b\n\tleft=198.51.100.20\n\tright=203.0.113.78\n\tauthby=secret\n\tesn=no\n\
                conn c\n\tleft=198.51.100.20\n\tright=203.0.113.79\n\tleftid=@packhouse.example.net\n\trightid=@coldstore.example.net\n\tauthby=secret\n\tesn=no\n";
    let gateway = clean(&[(CONF, conf), ("etc/ipsec.secrets", secrets)]);
    let secret = |i: usize| gateway.secret_for(&gateway.connections[i]).map(|secret| String::from_utf8_lossy(secret.expose()).into_owned());
    assert_eq!([0, 1, 2].map(secret).map(Option::unwrap_or_default), ["for the peer", "for anybody", "for the two"]);
}

#[test]
fn sections_in_circles_and_files_that_include_themselves_are_named() {
    let (_, found) = read(&[(CONF, "include ipsec.conf\nconn a\n\talso=b\n\tauto=add\nconn b\n\talso=a\n\talso=nobody\n")]);
    for what in ["included by itself", "takes over itself", "no section `nobody`"] {
        assert!(found.iter().any(|text| text.contains(what)), "{what}: {found:?}");
    }
}

#[test]
fn two_files_that_call_the_same_end_left_are_compared_as_the_daemon_reads_them() {
    let conf = "conn harvest\n\tleft=198.51.100.20\n\tleftid=@packhouse.example.net\n\tleftsubnet=10.41.0.0/22\n\tright=203.0.113.77\n\trightsubnet=10.73.16.0/20\n\tauthby=secret\n\tesn=no\n\tike=aes256-sha2_256;dh19\n\tesp=aes256-sha2_256;dh19\n\tauto=start\n";
    let secrets = "@packhouse.example.net 203.0.113.77 : PSK \"the same at both ends, as it should be\"\n";
    let tree = tree(&[(CONF, conf), ("etc/ipsec.secrets", secrets)]);
    let (gateway, _) = known::read_as(known::platform_of(&tree), &tree);
    let reading = |name| ReadGateway { name, gateway: &gateway, ends_open: true, tree: Some(&tree) };
    let comparison = known::trees_compared([reading("packhouse"), reading("coldstore")]);
    assert_eq!(comparison.count(Gravity::Fatal), 0, "{:#?}", comparison.pairs);
    // Where each file says for itself which end is its own, the same two are fatal.
    let fixed = |name| ReadGateway { ends_open: false, ..reading(name) };
    assert!(known::trees_compared([fixed("packhouse"), fixed("coldstore")]).count(Gravity::Fatal) > 0);
}

// ---- iked.conf(5) ------------------------------------------------------------------------------------

#[test]
fn macros_lists_and_what_a_policy_leaves_out() {
    let (gateway, found) = read(&[
        (
            "etc/iked.conf",
            "# as the manual page has it\nset passive\nremote_gw = \"203.0.113.77\"\nnets = \"10.41.0.0/22\"\nphrase = \"psk 'x'\"\nuser \"carol\" \"hunter2 in clear\"\n\
             include \"/etc/iked.d/more.conf\"\n\
             ikev2 \"harvest\" quick active esp inet \\\n\tfrom $nets to 10.73.16.0/20, \\\n\tfrom $nets to 10.73.32.0/24 \\\n\tpeer $remote_gw \\\n\tsrcid \"/C=US/O=Alder Creek Orchards\" dstid gate@example.net \\\n\
             \tlifetime 20m \\\n\tpsk \"$nets is no macro here\"\n",
        ),
        ("etc/iked.d/more.conf", "ikev2 esp proto udp from 198.51.100.20 to 203.0.113.9 rsa\n"),
    ]);
    let connection = &gateway.connections[1];
    assert_eq!((connection.name.as_str(), connection.remote.value.to_string()), ("harvest", "203.0.113.77".to_owned()));
    let child = &connection.children[0];
    assert_eq!(
        (nets(&child.local.value), nets(&child.remote.value)),
        (vec!["10.41.0.0/22".to_owned()], vec!["10.73.16.0/20".to_owned(), "10.73.32.0/24".to_owned()])
    );
    assert_eq!((child.opening.value, child.lifetime.value.hard.as_secs()), (Opening::WAIT, 1200), "the daemon opens nothing by itself");
    assert_eq!(gateway.secret_for(connection), Some(&Secret::new(b"$nets is no macro here".to_vec())));
    let hosts = &gateway.connections[0];
    assert_eq!((hosts.remote.value.to_string(), hosts.ike().local_method.value), ("203.0.113.9".to_owned(), Method::Certificate));
    assert_eq!(hosts.children[0].protocol.value, Some(17));
    assert!(found.iter().any(|text| text.contains("users for EAP")), "{found:?}");
    assert!(!found.iter().any(|text| text.contains("hunter2") || text.contains("is not understood here")), "{found:?}");
}

// ---- any text ------------------------------------------------------------------------------------------

/// Pieces of each format, and what breaks them.
const PIECES: [&[&str]; 3] = [
    &[
        "connections",
        "secrets",
        "ike-a",
        "local",
        "remote",
        "children",
        "{",
        "}",
        "\n",
        " ",
        "=",
        ":",
        ",",
        "a",
        "a.b",
        "include ",
        "*.conf",
        "swanctl.conf",
        "auth",
        "psk",
        "pubkey",
        "id",
        "local_ts",
        "10.0.0.0/8",
        "dynamic[udp]",
        "proposals",
        "aes256-sha256-modp2048",
        "\"",
        "#",
        "0x61",
        "0s",
        "version",
        "2",
        "rekey_time",
        "1h",
        "start_action",
        "trap",
        "é",
        "\\",
    ],
    &[
        "conn ",
        "a",
        "b",
        "%default",
        "\n",
        "\t",
        " ",
        "=",
        "also",
        "alsoflip",
        "left",
        "right",
        "leftsubnet",
        "rightsubnets",
        "{10.0.0.0/8, 10.1.0.0/16}",
        "198.51.100.20",
        "203.0.113.77",
        "%any",
        "authby",
        "secret",
        "ike",
        "aes256-sha2_256;dh14",
        "include ",
        "ipsec.conf",
        "*",
        "\"",
        "#",
        "config setup",
        ": PSK ",
        "auto",
        "start",
        "esn",
        "yes",
        "é",
        "keylife",
        "1h",
    ],
    &[
        "ikev2",
        "\"a\"",
        "active",
        "esp",
        "from",
        "to",
        "any",
        "10.0.0.0/8",
        "peer",
        "local",
        "198.51.100.20",
        "srcid",
        "dstid",
        "psk",
        "\"x\"",
        "0x61",
        "ikesa",
        "childsa",
        "enc",
        "aes-256",
        "auth",
        "hmac-sha2-256",
        "group",
        "modp2048",
        "\n",
        " ",
        "\\\n",
        "a",
        "=",
        "$a",
        ",",
        "{",
        "}",
        "(",
        "include",
        "\"/etc/iked.conf\"",
        "set",
        "passive",
        "dpd_check_interval",
        "5",
        "#",
        "\"",
        "é",
        "proto",
        "udp",
    ],
];

const PATHS: [&[&str]; 3] = [
    &["etc/swanctl/swanctl.conf", "etc/swanctl/conf.d/a.conf"],
    &["etc/ipsec.conf", "etc/ipsec.secrets", "etc/ipsec.d/a.conf", "etc/ipsec.d/a.secrets"],
    &["etc/iked.conf", "etc/iked.d/a.conf"],
];

proptest! {
    #![proptest_config(ProptestConfig { cases: 1_500, failure_persistence: None, ..ProptestConfig::default() })]

    /// Whatever stands in the files, readers come to an end without a panic, and what they read can be compared.
    #[test]
    fn any_files_are_survived(dialect in 0..3usize, texts in prop::collection::vec(prop::collection::vec(0..64usize, 0..60), 4), spaced in any::<bool>()) {
        let pieces = PIECES[dialect];
        let mut files = Tree::default();
        for (path, text) in PATHS[dialect].iter().zip(&texts) {
            let words: Vec<_> = text.iter().map(|i| pieces[i % pieces.len()]).collect();
            files.add(*path, TreeFile::public(words.join(if spaced { " " } else { "" })));
        }
        let (gateway, _) = known::read_as(known::platform_of(&files), &files);
        let reading = ReadGateway { name: "a", gateway: &gateway, ends_open: dialect == 1, tree: Some(&files) };
        let _ = known::trees_compared([reading, reading]);
        let same = compare_same(reading, reading);
        prop_assert_eq!(same.alone, [Vec::<String>::new(), Vec::new()]);
    }

    /// The same of text that is nothing at all.
    #[test]
    fn any_bytes_are_survived(dialect in 0..3usize, text in "\\PC{0,200}", which in select(vec![0usize, 1])) {
        let mut files = Tree::default();
        files.add(PATHS[dialect][which], TreeFile::public(text));
        let platform = known::profile(dialect);
        let _ = known::read_as(platform, &files);
    }
}

#[test]
fn files_that_multiply_each_other_come_to_an_end() {
    // Each includes the next one ten times; each section takes over the next one twice.
    let mut files = vec![("etc/swanctl/swanctl.conf".to_owned(), "include 0.conf\n".to_owned())];
    files.extend((0..30).map(|i| (format!("etc/swanctl/{i}.conf"), format!("include {}.conf\n", i + 1).repeat(10))));
    let sections: String = (0..60).map(|i| format!("s{i} : s{0}, s{0} {{\n a : s{0} {{ }}\n}}\n", i + 1)).collect();
    files.push(("etc/swanctl/31.conf".to_owned(), sections.clone()));
    let list: Vec<_> = files.iter().map(|(path, text)| (path.as_str(), text.as_str())).collect();
    let _ = read(&list);
    let _ = read(&[("etc/swanctl/swanctl.conf", &sections)]);
    let also: String = (0..60).map(|i| format!("conn s{i}\n\talso={}\n\talso={0}\n", format_args!("s{}", i + 1))).collect();
    let _ = read(&[("etc/ipsec.conf", &also)]);
    let macros: String = (0..60).map(|i| format!("m{} = $m{i} $m{i}\n", i + 1)).collect();
    let _ = read(&[("etc/iked.conf", &format!("m0 = a b\n{macros}ikev2 $m60\n"))]);
}

/// What the daemon makes of each order is tried in the lab's tests; here that it is told at its place.
#[test]
fn parts_of_a_policy_that_stand_where_none_is_taken_are_told() {
    let ends = "from 10.0.0.0/24 to 10.1.0.0/24 peer 192.0.2.1";
    let found = |text: &str| {
        let tree = Tree::of("etc/iked.conf", text);
        let (_, findings) = known::read_as(known::platform("openiked"), &tree);
        let blamed = findings.into_iter().filter(|finding| finding.message.contains("it refuses the file"));
        blamed.map(|finding| text[finding.place.expect("a place").span.range()].to_owned()).collect::<Vec<_>>()
    };
    for (text, blamed) in [
        (format!("ikev2 active esp {ends}\n"), &[][..]),
        (format!("ikev2 active passive esp {ends}\n"), &["passive"]),
        (format!("ikev2 esp active {ends}\n"), &["active"]),
        (format!("ikev2 active esp {ends} local 192.0.2.7\n"), &[]),
        (format!("ikev2 active esp {ends} local 192.0.2.7 peer 192.0.2.1\n"), &["peer"]),
        (format!("ikev2 active esp {ends} lifetime 10m srcid a lifetime 20m\n"), &["srcid", "lifetime"]),
    ] {
        assert_eq!(found(&text), blamed, "{text}");
    }
}
