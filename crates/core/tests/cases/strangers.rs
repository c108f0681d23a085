//! Files as strangers write them: spellings and settings that this program does not write itself, and what is not understood.

use crate::known;
use uspan_core::*;

const SWAN: &str = "connections {\n  han {\n    local_addrs = 198.51.100.20\n    remote_addrs = 203.0.113.77\n    proposals = IKE\n    MORE\n    \
local { auth = psk\n id = @ffm.example.net }\n    remote { auth = psk\n id = @han.example.net }\n    children {\n      net {\n        \
local_ts = 10.20.0.0/16\n        remote_ts = 10.30.0.0/16\n        ESP\n        start_action = start\n      }\n    }\n  }\n}\n\
secrets { ike { secret = \"not a real secret, only for this test\" } }\n";
const IPSEC: &str = "config setup\n\tikev1-policy=accept\nconn ffm\n\tleft=%any\n\tright=203.0.113.77\n\tleftid=@ffm.example.net\n\trightid=@han.example.net\n\t\
leftsubnet=10.20.0.0/16\n\trightsubnet=10.30.0.0/16\n\tauthby=secret\n\tike=IKE\n\tESP\n\tpfs=no\n\tMORE\n\tauto=add\n";
const IFACE: &str = "iface eth0 inet static\n\taddress 203.0.113.77/24\n";

/// The two gateways with what varies: proposals of each, and a statement more.
struct Pair {
    trees: [Tree; 2],
}

impl Pair {
    fn of(swan: [&str; 3], ipsec: [&str; 3]) -> Pair {
        let put = |text: &str, [ike, esp, more]: [&str; 3]| text.replace("IKE", ike).replace("ESP", esp).replace("MORE", more);
        let mut trees = [Tree::default(), Tree::default()];
        trees[0].add("etc/swanctl/swanctl.conf", TreeFile::public(put(SWAN, swan)));
        trees[1].add("etc/ipsec.conf", TreeFile::public(put(IPSEC, ipsec)));
        trees[1].add("etc/ipsec.secrets", TreeFile::private(": PSK \"not a real secret, only for this test\"\n".to_owned()));
        trees[1].add("etc/network/interfaces", TreeFile::public(IFACE.to_owned()));
        Pair { trees }
    }

    fn read(&self) -> [(Gateway, Vec<Finding>); 2] {
        [0, 1].map(|end| known::read_as(known::platform(["strongswan", "libreswan"][end]), &self.trees[end]))
    }

    fn reading<'a>(&'a self, read: &'a [(Gateway, Vec<Finding>); 2], end: usize) -> ReadGateway<'a> {
        ReadGateway { name: ["ffm", "han"][end], gateway: &read[end].0, ends_open: end == 1, tree: Some(&self.trees[end]) }
    }

    fn rehearsed(&self) -> Rehearsal {
        let read = self.read();
        let actors = [0, 1].map(|end| known::actor(self.reading(&read, end), known::platform(["strongswan", "libreswan"][end])));
        rehearse(actors, None).all.remove(0)
    }

    fn blamed(&self) -> Vec<String> {
        let blames = |finding: &Finding| ["US801", "US803"].contains(&finding.rule.code);
        self.read().into_iter().flat_map(|(_, findings)| findings).filter(blames).map(|finding| finding.message).collect()
    }
}

const ESP: [&str; 2] = ["esp_proposals = aes256-sha2_256", "esp=aes256-sha2"];

#[test]
fn every_spelling_of_the_daemons_is_read() {
    for (swan, ipsec) in [
        ("aes256-sha2_256-modp2048", "aes256-sha2;dh14"),
        ("aes256-sha256-modp2048", "aes256-sha2_256;modp2048"),
        ("aes256-sha256-modp2048", "aes256-sha2_256-modp2048"),
        ("aes256-sha256-modp2048", "AES_CBC_256-HMAC_SHA2_256-MODP2048"),
        ("aes256-sha256-modp2048", "aes-256-sha2;dh14"),
        ("aes256-sha256-modp2048", "aes256-sha2"),
        ("aes-sha1-modp1536", "aes-sha1;modp1536"),
        ("aes128gcm128-prfsha256-x25519", "aes_gcm_16_128-sha2;dh31"),
        ("aes256gcm-prfsha512-ecp256", "aes_gcm256-sha2_512;dh19"),
        ("default", "aes256-sha2_256;dh19"),
        ("3des-sha1-modp1536", "3des-sha1;modp1536"),
    ] {
        let pair = Pair::of([swan, ESP[0], ""], [ipsec, ESP[1], ""]);
        assert_eq!(pair.blamed(), Vec::<String>::new(), "{swan} {ipsec}");
        assert_eq!(pair.rehearsed().verdict(), RehearsalVerdict::Up, "{swan} {ipsec}: {:#?}", pair.rehearsed().failures);
    }
}

#[test]
fn what_is_no_proposal_loses_the_connection_before_the_first_message() {
    let pair = Pair::of(["aes256-sha257-modp2048", ESP[0], ""], ["aes256-sha2;dh14", ESP[1], ""]);
    assert_eq!(pair.blamed().len(), 1);
    let rehearsal = pair.rehearsed();
    assert_eq!((rehearsal.verdict(), rehearsal.stage()), (RehearsalVerdict::Fails, Some(Stage::Load)));
    assert_eq!(rehearsal.failures[0].cures[0].spelling.as_deref(), Some("proposals = aes256-sha257-modp2048"));
}

#[test]
fn what_is_not_understood_is_never_the_default() {
    // Words of the daemon's table for algorithms that the registries do not have.
    let pair = Pair::of(["serpent256-sha256-modp2048", ESP[0], ""], ["aes256-sha2;dh14", ESP[1], ""]);
    let rehearsal = pair.rehearsed();
    assert_eq!(rehearsal.verdict(), RehearsalVerdict::Unknown);
    assert_eq!(rehearsal.doubts[0].stage, Stage::IkeSa);
    assert!(rehearsal.steps.is_empty() && rehearsal.failures.is_empty() && rehearsal.opened.is_empty());
    // A failure before it is one all the same.
    let mut elsewhere = Pair::of(["serpent256-sha256-modp2048", ESP[0], ""], ["aes256-sha2;dh14", ESP[1], ""]);
    let text = SWAN
        .replace("203.0.113.77", "203.0.113.99")
        .replace("IKE", "serpent256-sha256-modp2048")
        .replace("ESP", ESP[0])
        .replace("MORE", "");
    elsewhere.trees[0].add("etc/swanctl/swanctl.conf", TreeFile::public(text));
    let rehearsal = elsewhere.rehearsed();
    assert_eq!((rehearsal.verdict(), rehearsal.stage()), (RehearsalVerdict::Fails, Some(Stage::Answer)));
}

#[test]
fn a_setting_bears_on_what_it_bears_on() {
    for (swan, ipsec, verdict) in [
        ("mobike = no", "mobike=no", RehearsalVerdict::Up),
        ("mobike = yes", "fragmentation=force", RehearsalVerdict::Up),
        ("reauth_time = 10800", "rekeyfuzz=50%", RehearsalVerdict::Up),
        ("unique = replace", "leftnexthop=%defaultroute", RehearsalVerdict::Up),
        ("childless = force", "", RehearsalVerdict::Unknown),
        ("", "enable-tcp=yes", RehearsalVerdict::Unknown),
        ("", "sha2-truncbug=yes", RehearsalVerdict::Unknown),
        ("", "sha2-truncbug=no", RehearsalVerdict::Up),
        // A mistyped word loses the connection with one daemon, the whole file with the other.
        ("mobkie = no", "", RehearsalVerdict::Fails),
        ("", "mobkie=no", RehearsalVerdict::Fails),
        ("", "compress=maybe", RehearsalVerdict::Fails),
    ] {
        let pair = Pair::of(["aes256-sha256-modp2048", ESP[0], swan], ["aes256-sha2;dh14", ESP[1], ipsec]);
        assert_eq!(pair.rehearsed().verdict(), verdict, "{swan}{ipsec}");
        assert_eq!(pair.blamed().is_empty(), verdict != RehearsalVerdict::Fails, "{swan}{ipsec}: {:?}", pair.blamed());
    }
}

#[test]
fn authentication_headers_are_no_payload_encryption() {
    let pair = Pair::of(["aes256-sha256-modp2048", "ah_proposals = sha256", ""], ["aes256-sha2;dh14", "ah=sha2_256", "phase2=ah"]);
    let rehearsal = pair.rehearsed();
    assert_eq!(rehearsal.verdict(), RehearsalVerdict::Up, "{:#?}", rehearsal.failures);
    assert_eq!(rehearsal.opened[0].protection, "sha2-256");
    let one_sided = Pair::of(["aes256-sha256-modp2048", ESP[0], ""], ["aes256-sha2;dh14", "ah=sha2_256", "phase2=ah"]);
    assert_eq!(one_sided.rehearsed().verdict(), RehearsalVerdict::Fails);
}

#[test]
fn a_description_never_becomes_another_tunnel_in_silence() {
    let kinds = |pair: &Pair| {
        let read = pair.read();
        let ends =
            [0, 1].map(|end| Adoptee { reading: pair.reading(&read, end), facts: known::platform(["strongswan", "libreswan"][end]) });
        let notes = adopt(ends).notes;
        let has = |kind: NoteKind| notes.iter().any(|note| note.kind == kind);
        (has(NoteKind::LeftOut), has(NoteKind::AnotherTunnel))
    };
    let ike = ["aes256-sha256-modp2048", "aes256-sha2;dh14"];
    for (esp, more, expected) in [
        (ESP, ["", ""], (false, false)),
        (ESP, ["mobike = no", "mtu=1400"], (true, false)),
        (ESP, ["childless = force", ""], (false, true)),
        (ESP, ["", "leftprotoport=tcp/443"], (false, true)),
        (ESP, ["", "narrowing=yes"], (true, false)),
        (["ah_proposals = sha256", "ah=sha2_256"], ["", "phase2=ah"], (false, true)),
        (["esp_proposals = serpent-sha256", ESP[1]], ["", ""], (false, true)),
    ] {
        let pair = Pair::of([ike[0], esp[0], more[0]], [ike[1], esp[1], more[1]]);
        assert_eq!(kinds(&pair), expected, "{esp:?} {more:?}");
    }
}

/// strongSwan's older form of [`SWAN`], as people write it.
const OLDER: &str = "config setup\n\tuniqueids=yes\n\nconn %default\n\tikelifetime=4h\n\tkeylife=60m\n\trekeymargin=6m\n\tauthby=psk\n\nconn base\n\tright=198.51.100.20\n\t\
rightid=@ffm.example.net\n\tleft=203.0.113.77\n\tleftid=@han.example.net\n\nconn han\n\talso=base\n\tleftsubnet=10.30.0.0/16\n\trightsubnet=10.20.0.0/16\n\t\
ike=aes256-sha256-modp2048!\n\tesp=aes256-sha256!\n\tMORE\n\tauto=route\n";

/// The gateway that has it, with a statement more, and the other one with swanctl.conf.
fn older(more: &str) -> Pair {
    let mut pair = Pair::of(["aes256-sha256-modp2048", ESP[0], ""], ["aes256-sha2;dh14", ESP[1], ""]);
    pair.trees[1] = Tree::default();
    pair.trees[1].add("etc/ipsec.conf", TreeFile::public(OLDER.replace("MORE", more)));
    pair.trees[1].add(
        "etc/ipsec.secrets",
        TreeFile::private("@han.example.net @ffm.example.net : PSK \"not a real secret, only for this test\"\n".to_owned()),
    );
    pair.trees[1].add("etc/network/interfaces", TreeFile::public(IFACE.to_owned()));
    pair
}

fn older_read(pair: &Pair) -> [(Gateway, Vec<Finding>); 2] {
    [0, 1].map(|end| known::read_as(known::platform_of(&pair.trees[end]), &pair.trees[end]))
}

fn older_rehearsed(pair: &Pair) -> Rehearsal {
    let read = older_read(pair);
    let actors = [0, 1].map(|end| known::actor(pair.reading(&read, end), known::platform_of(&pair.trees[end])));
    rehearse(actors, None).all.remove(0)
}

#[test]
fn the_older_form_is_told_by_what_it_says() {
    let pair = older("");
    assert_eq!(known::platform_of(&pair.trees[1]).word, "strongswan-starter");
    let libreswan = Pair::of(["aes256-sha256-modp2048", ESP[0], ""], ["aes256-sha2;dh14", ESP[1], ""]);
    assert_eq!(known::platform_of(&libreswan.trees[1]).word, "libreswan");
    // What both take is of either.
    let mut tree = Tree::default();
    tree.add("etc/ipsec.conf", TreeFile::public("conn a\n\tleft=192.0.2.1\n\tright=192.0.2.2\n\tauthby=secret\n\tauto=start\n".to_owned()));
    assert_eq!(known::context().profiles_of(&tree).len(), 2);
    // The packaged file, in which nothing stands, beside files of the newer form.
    let mut tree = pair.trees[0].clone();
    tree.add("etc/ipsec.conf", TreeFile::public("# ipsec.conf\nconfig setup\n\t# strictcrlpolicy=yes\n".to_owned()));
    assert!(known::context().profiles_of(&tree).iter().all(|profile| profile.word != "strongswan-starter"));
}

#[test]
fn the_older_form_is_read_and_rehearsed_as_the_newer_one() {
    for (more, verdict) in [
        ("", RehearsalVerdict::Up),
        ("mobike=no", RehearsalVerdict::Up),
        ("keyexchange=ikev1", RehearsalVerdict::Fails),
        ("type=transport", RehearsalVerdict::Fails),
        ("leftsubnet=10.31.0.0/16", RehearsalVerdict::Fails),
        ("rightsourceip=10.9.0.0/24", RehearsalVerdict::Unknown),
        ("sha256_96=yes", RehearsalVerdict::Unknown),
        // A word that is no value costs the connection; a keyword that is none is passed over.
        ("mobike=maybe", RehearsalVerdict::Fails),
        ("mobkie=no", RehearsalVerdict::Up),
    ] {
        let pair = older(more);
        let rehearsal = older_rehearsed(&pair);
        assert_eq!(rehearsal.verdict(), verdict, "{more}: {:#?}", rehearsal.failures);
    }
    let mut broken = older("");
    broken.trees[1].add("etc/ipsec.conf", TreeFile::public(OLDER.replace("MORE", "leftcert = a = b")));
    assert_eq!(older_rehearsed(&broken).stage(), Some(Stage::Load));
}

#[test]
fn the_older_form_is_taken_over_into_the_newer_one() {
    let pair = older("");
    let read = older_read(&pair);
    let ends = [0, 1].map(|end| Adoptee { reading: pair.reading(&read, end), facts: known::platform_of(&pair.trees[end]) });
    let adopted = adopt(ends);
    assert!(
        !adopted.notes.iter().any(|note| [NoteKind::LeftOut, NoteKind::AnotherTunnel, NoteKind::Disagrees].contains(&note.kind)),
        "{:#?}",
        adopted.notes
    );
    let context = known::context();
    let (description, findings) = Description::parse(&Source::new("d", adopted.text.as_str()), context);
    assert!(!any_stops(&findings), "{findings:#?}\n{}", adopted.text);
    assert!(description.sites.iter().all(|site| site.platform.value.word == "strongswan"), "{}", adopted.text);
}

#[test]
fn what_must_go_is_the_section_and_the_secret_of_what_is_taken() {
    let goes = |tree: &Tree, taken: &str| {
        let platform = known::platform_of(tree);
        let (gateway, _) = known::read_as(platform, tree);
        let left = leaving("han", platform, &gateway, &defined(platform, tree, &gateway), &[taken.to_owned()]);
        let parts = left.parts.iter().map(|part| {
            let text: Vec<&str> =
                tree.files[&part.file].text.lines().skip(part.lines.0 - 1).take(part.lines.1 + 1 - part.lines.0).collect();
            (
                part.file.clone(),
                text.first().copied().unwrap_or_default().trim().to_owned(),
                text.last().copied().unwrap_or_default().trim().to_owned(),
            )
        });
        (parts.collect::<Vec<_>>(), left.by_hand.len(), left.script)
    };
    let of = |file: &str, first: &str, last: &str| (file.to_owned(), first.to_owned(), last.to_owned());
    let secret = ": PSK \"not a real secret, only for this test\"";
    let pair = Pair::of(["aes256-sha256-modp2048", ESP[0], ""], ["aes256-sha2;dh14", ESP[1], ""]);
    let (parts, by_hand, script) = goes(&pair.trees[0], "han");
    assert_eq!(
        parts,
        [
            of("etc/swanctl/swanctl.conf", "han {", "}"),
            of("etc/swanctl/swanctl.conf", SWAN.lines().last().expect("a line"), SWAN.lines().last().expect("a line"))
        ]
    );
    assert!(by_hand == 0 && script.contains("swanctl --terminate --ike han") && !script.contains("not a real secret"), "{script}");
    let (parts, ..) = goes(&pair.trees[1], "ffm");
    assert_eq!(parts, [of("etc/ipsec.conf", "conn ffm", "auto=add"), of("etc/ipsec.secrets", secret, secret)]);
    let other = older("");
    let (parts, _, script) = goes(&other.trees[1], "han");
    assert_eq!(parts[..2], [of("etc/ipsec.conf", "conn base", "leftid=@han.example.net"), of("etc/ipsec.conf", "conn han", "auto=route")]);
    assert!(script.contains("systemctl disable --now strongswan-starter"), "{script}");
    let text = "set passive\nikev2 \"ffm\" active esp \\\n\tfrom 10.30.0.0/16 to 10.20.0.0/16 peer 198.51.100.20 \\\n\tpsk \"x\"\nikev2 \"b\" esp from 10.1.0.0/16 to 10.2.0.0/16 peer 192.0.2.1 psk \"y\"\n";
    let (parts, by_hand, _) = goes(&Tree::of("etc/iked.conf", text), "ffm");
    assert_eq!((parts, by_hand), (vec![of("etc/iked.conf", "ikev2 \"ffm\" active esp \\", "psk \"x\"")], 1));
}

#[test]
fn old_and_new_beside_each_other_are_seen() {
    let mut pair = older("");
    let conf = pair.trees[1].files["etc/ipsec.conf"].text.clone();
    let again = conf[conf.find("conn han").expect("there")..].replace("conn han", "conn han_net");
    pair.trees[1].add("etc/ipsec.conf", TreeFile::public(conf + &again));
    let found: Vec<_> =
        older_read(&pair)[1].1.iter().filter(|finding| finding.rule.code == "US810").map(|finding| finding.message.clone()).collect();
    assert_eq!(found, ["`han` and `han_net` carry the same to the same peer"]);
}
