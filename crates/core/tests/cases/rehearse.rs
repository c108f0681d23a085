//! Rehearsals as scripts of messages, after the sections of the RFCs that they follow.

use crate::known;
use std::net::{IpAddr, Ipv4Addr};

use crate::orchard::orchard;
use uspan_core::*;

/// The orchard's two gateways; `tunnel` and the platforms vary.
fn trees(platforms: [&str; 2], tunnel: &str) -> [Tree; 2] {
    orchard(platforms, "", tunnel)
}

const CBC: &str = "ike = [{ encryption = \"aes-256-cbc\", integrity = \"sha2-512\", group = \"modp-3072\" }]\n\
                   esp = [{ encryption = \"aes-256-cbc\", integrity = \"sha2-512\" }]\n";

/// Edits of files: the site's number, what is replaced, by what.
type Edit = (usize, &'static str, &'static str);

fn rehearsed(trees: [Tree; 2], edits: &[Edit], opener: Option<usize>) -> Rehearsal {
    rehearsed_at(trees, edits, opener, REACHED)
}

const REACHED: [IpAddr; 2] = [IpAddr::V4(Ipv4Addr::new(198, 51, 100, 20)), IpAddr::V4(Ipv4Addr::new(203, 0, 113, 77))];

/// The same with gateways that have these addresses of their own.
fn rehearsed_at(mut trees: [Tree; 2], edits: &[Edit], opener: Option<usize>, own: [IpAddr; 2]) -> Rehearsal {
    for (end, old, new) in edits {
        let mut found = trees[*end].files.values_mut().filter(|file| file.text.contains(old)).peekable();
        assert!(found.peek().is_some(), "`{old}` is nowhere");
        found.for_each(|file| file.text = file.text.replace(old, new));
    }
    let reads = trees.each_ref().map(|tree| {
        let platform = known::context().profiles_of(tree)[0];
        (platform, known::read_as(platform, tree).0)
    });
    let actor = |end: usize| {
        let (facts, gateway) = &reads[end];
        let reading = ReadGateway {
            name: ["packhouse", "coldstore"][end],
            gateway,
            ends_open: facts.own_end == OwnEnd::ByAddress,
            tree: Some(&trees[end]),
        };
        Actor { reading, behaviour: &facts.behaviour, stands: KnownAddresses { own: Some(own[end]), reached: Some(REACHED[end]) } }
    };
    let mut rehearsals = rehearse([actor(0), actor(1)], opener);
    assert_eq!((rehearsals.all.len(), rehearsals.alone.concat().len()), (1, 0));
    let rehearsal = rehearsals.all.remove(0);
    if opener.is_none() {
        // Whoever reads no message learns the same of how it ends.
        let tried = outcome_only([actor(0), actor(1)], None).all.remove(0);
        assert_eq!((outcome(&tried), &tried.opened), (outcome(&rehearsal), &rehearsal.opened));
        assert!(tried.steps.iter().all(|step| matches!(step, Step::Message(message) if message.payloads.is_empty())));
    }
    rehearsal
}

/// How it fails, but for the number of the step: thoughts are steps, too.
fn outcome(rehearsal: &Rehearsal) -> Vec<RehearsalFailure> {
    rehearsal.failures.iter().map(|failure| RehearsalFailure { step: 0, ..failure.clone() }).collect()
}

/// A line for each message: who sends it, what it is, its payloads.
fn script(rehearsal: &Rehearsal) -> Vec<String> {
    let each = rehearsal.steps.iter().filter_map(|step| match step {
        Step::Message(message) => Some(message),
        Step::Thought { .. } => None,
    });
    each.map(|message| {
        let payloads: Vec<_> = message.payloads.iter().map(|payload| payload.name.as_str()).collect();
        let kind = if message.reply { "<" } else { ">" };
        let lost = if message.arrives { "" } else { " (lost)" };
        format!("{} {}{kind} {}{lost}", ["packhouse", "coldstore"][message.from], message.exchange.word(), payloads.join(", "))
    })
    .collect()
}

/// Where it fails, with which notification.
fn failed(rehearsal: &Rehearsal) -> Vec<(Stage, &'static str)> {
    rehearsal.failures.iter().map(|failure| (failure.stage, failure.notify.map_or("", |notify| notify.name))).collect()
}

const PAIR: [&str; 2] = ["strongswan", "libreswan"];

/// RFC 7296 sections 1.2 (the initial exchanges), 1.3.3 (rekeying a Child SA) and 1.3.2 (rekeying the IKE SA).
#[test]
fn a_pair_that_fits_comes_up_and_gets_new_keys() {
    let rehearsal = rehearsed(trees(PAIR, CBC), &[], None);
    assert_eq!(
        script(&rehearsal),
        [
            "packhouse IKE_SA_INIT> SA, KE, Ni, N(NAT_DETECTION_…)",
            "coldstore IKE_SA_INIT< SA, KE, Nr, N(NAT_DETECTION_…)",
            "packhouse IKE_AUTH> IDi, IDr, AUTH, SA, TSi, TSr",
            "coldstore IKE_AUTH< IDr, AUTH, SA, TSi, TSr",
            "packhouse CREATE_CHILD_SA> N(REKEY_SA), SA, TSi, TSr, Ni, KE",
            "coldstore CREATE_CHILD_SA< SA, Nr, KE, TSi, TSr",
            "packhouse CREATE_CHILD_SA> SA, Ni, KE",
            "coldstore CREATE_CHILD_SA< SA, Nr, KE",
        ]
    );
    assert!(rehearsal.works());
    let pair = ("10.41.0.0/22".parse().expect("a network"), "10.73.16.0/20".parse().expect("a network"));
    assert_eq!(rehearsal.opened[0].selectors, [vec![pair], vec![(pair.1, pair.0)]]);
    assert_eq!(rehearsal.opened[0].protection, "aes-256-cbc + sha2-512");
}

/// RFC 7296 section 1.2, last paragraph, and section 3.4: the guess of the group was wrong.
#[test]
fn a_wrong_guess_costs_one_more_exchange() {
    let edits = [(0, "proposals = aes256-sha512-prfsha512-modp3072", "proposals = aes256-sha512-prfsha512-ecp256-modp3072")];
    let rehearsal = rehearsed(trees(PAIR, CBC), &edits, None);
    assert_eq!(
        script(&rehearsal)[..4],
        [
            "packhouse IKE_SA_INIT> SA, KE, Ni, N(NAT_DETECTION_…)",
            "coldstore IKE_SA_INIT< N(INVALID_KE_PAYLOAD)",
            "packhouse IKE_SA_INIT> SA, KE, Ni, N(NAT_DETECTION_…)",
            "coldstore IKE_SA_INIT< SA, KE, Nr, N(NAT_DETECTION_…)",
        ]
    );
    assert!(rehearsal.works());
}

/// RFC 7296 section 2.7: no proposal is acceptable.
#[test]
fn proposals_that_do_not_fit_end_it_at_the_first_reply() {
    let rehearsal = rehearsed(trees(PAIR, CBC), &[(1, "ike=aes256-sha2_512;modp3072", "ike=aes256-sha2_256;modp3072")], None);
    assert_eq!(
        script(&rehearsal),
        ["packhouse IKE_SA_INIT> SA, KE, Ni, N(NAT_DETECTION_…)", "coldstore IKE_SA_INIT< N(NO_PROPOSAL_CHOSEN)"]
    );
    assert_eq!(failed(&rehearsal), [(Stage::IkeSa, "NO_PROPOSAL_CHOSEN")]);
    let failure = &rehearsal.failures[0];
    assert!(failure.reason.ends_with("They differ in integrity (sha2-512 at packhouse, sha2-256 at coldstore) and prf (sha2-512 at packhouse, sha2-256 at coldstore)."), "{}", failure.reason);
    let lines: Vec<_> = failure.cures.iter().map(|cure| cure.spelling.as_deref()).collect();
    assert_eq!(lines, [Some("proposals = aes256-sha512-prfsha512-modp3072"), Some("ike=aes256-sha2_256;modp3072")]);
}

/// RFC 7296 section 2.1: requests without an answer are sent again, and then given up.
#[test]
fn nobody_is_at_another_address() {
    let rehearsal = rehearsed(trees(PAIR, CBC), &[(0, "remote_addrs = 203.0.113.77", "remote_addrs = 203.0.113.78")], None);
    assert_eq!(script(&rehearsal), ["packhouse IKE_SA_INIT> SA, KE, Ni, N(NAT_DETECTION_…) (lost)"]);
    assert_eq!(failed(&rehearsal), [(Stage::Answer, "")]);
    assert_eq!(rehearsal.failures[0].cures[0].what, "write 203.0.113.77");
}

/// RFC 7296 section 2.21.2 (errors in IKE_AUTH) and 2.15 (the proof depends on the secret).
#[test]
fn another_secret_or_identity_fails_the_authentication() {
    for edits in [
        (1, "PSK 0x6e", "PSK 0x6f"),
        (1, "rightid=198.51.100.20", "rightid=@press.example.net"),
        (1, "leftid=203.0.113.77", "leftid=@press.example.net"),
    ] {
        let rehearsal = rehearsed(trees(PAIR, CBC), &[edits], None);
        assert_eq!(failed(&rehearsal), [(Stage::Authentication, "AUTHENTICATION_FAILED")], "{edits:?}");
        let last = script(&rehearsal).pop();
        assert_eq!(last.as_deref(), Some("coldstore IKE_AUTH< N(AUTHENTICATION_FAILED)"), "{edits:?}");
    }
}

/// RFC 7296 section 2.15: without a secret there is no proof to send.
#[test]
fn a_secret_for_other_identities_is_none() {
    let rehearsal = rehearsed(trees(["libreswan", "strongswan"], CBC), &[(0, "leftid=198.51.100.20", "leftid=@press.example.net")], None);
    assert_eq!(script(&rehearsal).len(), 2, "no IKE_AUTH is sent");
    assert_eq!(failed(&rehearsal), [(Stage::Authentication, "")]);
    assert_eq!(rehearsal.failures[0].reason, "packhouse has no secret for press.example.net (name) and 203.0.113.77 (address).");
}

/// RFC 7296 section 2.9: TS_UNACCEPTABLE; the IKE SA stays (section 1.3.1).
#[test]
fn selectors_that_do_not_fit_leave_an_ike_sa_without_esp() {
    let rehearsal = rehearsed(trees(PAIR, CBC), &[(1, "rightsubnet=10.41.0.0/22", "rightsubnet=10.42.0.0/22")], None);
    assert_eq!(script(&rehearsal).pop().as_deref(), Some("coldstore IKE_AUTH< IDr, AUTH, N(TS_UNACCEPTABLE)"));
    assert_eq!(failed(&rehearsal), [(Stage::ChildSa, "TS_UNACCEPTABLE")]);
    let cures: Vec<_> = rehearsal.failures[0].cures.iter().map(|cure| (cure.end, cure.spelling.as_deref(), cure.what.as_str())).collect();
    assert_eq!(
        cures,
        [(1, Some("rightsubnet=10.42.0.0/22"), "write 10.41.0.0/22"), (0, Some("local_ts = 10.41.0.0/22"), "or write 10.42.0.0/22")]
    );
    assert!(rehearsal.opened.is_empty());
}

/// RFC 7296 section 2.9: a responder may narrow to a subset of what was asked for.
#[test]
fn a_responder_that_narrows_takes_the_common_part() {
    let rehearsal =
        rehearsed(trees(["strongswan", "strongswan"], CBC), &[(1, "remote_ts = 10.41.0.0/22", "remote_ts = 10.41.2.0/24")], None);
    assert_eq!(failed(&rehearsal), []);
    let pairs: Vec<_> = rehearsal.opened[0].selectors[0].iter().map(|(from, to)| format!("{from} {to}")).collect();
    assert_eq!(pairs, ["10.41.2.0/24 10.73.16.0/20"]);
    assert!(!rehearsal.opened[0].whole && !rehearsal.works(), "less crosses than packhouse says");
}

/// RFC 7296 section 1.2: the first Child SA comes without a group of its own; section 1.3.3: its rekey does not.
#[test]
fn a_group_of_one_end_alone_shows_at_the_first_rekey() {
    let rehearsal = rehearsed(trees(PAIR, CBC), &[(1, "pfs=yes", "pfs=no")], None);
    assert_eq!(failed(&rehearsal), [(Stage::RekeyChild, "NO_PROPOSAL_CHOSEN")]);
    assert_eq!(rehearsal.opened.len(), 1);
    let failure = &rehearsal.failures[0];
    assert_eq!(failure.reason, "PFS does not fit: modp-3072 at packhouse, no group at coldstore.");
    assert_eq!(failure.cures[0].spelling.as_deref(), Some("pfs=no"));
}

/// RFC 4309 section 7.1: the salt of CCM has three bytes; ESP in UDP is lost behind such a key where a daemon counts in words.
#[test]
fn esp_that_is_to_travel_in_udp_and_does_not_shows_where_packets_cross() {
    let words = "esp = [{ encryption = \"aes-256-ccm\" }]";
    let rehearsal =
        rehearsed(trees(["strongswan", "libreswan"], words), &[(1, "\tikev2=insist\n", "\tikev2=insist\n\tencapsulation=yes\n")], None);
    assert_eq!(failed(&rehearsal), [(Stage::Crossing, "")]);
    assert_eq!(rehearsal.opened.len(), 1);
    assert!(rehearsal.failures[0].reason.contains("coldstore wants ESP in UDP"), "{}", rehearsal.failures[0].reason);
}

/// RFC 7296 section 1.3.1: further Child SAs, each with keys of its own.
#[test]
fn each_further_pair_takes_an_exchange() {
    let text = format!("{CBC}carries = \"all\"");
    let mut both = trees(PAIR, &text.replace("carries = \"all\"", ""));
    let file = both[0].files.values_mut().find(|file| file.text.contains("local_ts")).expect("a file");
    let child = file.text[file.text.find("harvest_office_racks {").expect("a child")..].to_owned();
    let child = &child[..child.find('}').expect("an end") + 1];
    let more = child.replace("harvest_office_racks", "more").replace("10.41.0.0/22", "10.41.8.0/24");
    file.text = file.text.replace(child, &format!("{child}\n      {more}"));
    let rehearsal = rehearsed(both, &[], None);
    let of = |word: &str| script(&rehearsal).into_iter().filter(|line| line.contains(word)).collect::<Vec<_>>();
    assert_eq!(of("TS_UNACCEPTABLE"), ["coldstore CREATE_CHILD_SA< N(TS_UNACCEPTABLE)"]);
    assert_eq!(of("packhouse CREATE_CHILD_SA>")[0], "packhouse CREATE_CHILD_SA> SA, TSi, TSr, Ni, KE");
    assert_eq!((rehearsal.opened.len(), failed(&rehearsal)), (1, vec![(Stage::ChildSa, "TS_UNACCEPTABLE")]));
}

/// RFC 2409 sections 5 (main mode with a shared secret) and 5.5 (quick mode).
#[test]
fn main_mode_and_quick_mode() {
    let rehearsal = rehearsed(trees(PAIR, &format!("version = \"ikev1\"\n{CBC}")), &[], None);
    assert_eq!(
        script(&rehearsal),
        [
            "packhouse main mode> SA",
            "coldstore main mode> SA",
            "packhouse main mode> KE, Ni",
            "coldstore main mode> KE, Nr",
            "packhouse main mode> IDii, HASH",
            "coldstore main mode> IDir, HASH",
            "packhouse quick mode> SA, Ni, KE, IDci, IDcr",
            "coldstore quick mode> SA, Nr, KE, IDci, IDcr",
            "packhouse quick mode> HASH",
            "packhouse quick mode> SA, Ni, KE, IDci, IDcr",
            "coldstore quick mode> SA, Nr, KE, IDci, IDcr",
            "packhouse quick mode> HASH",
        ]
    );
    assert!(rehearsal.works());
}

/// RFC 2409 section 5.4: with a shared secret the keys depend on it, so that an identity cannot even be read.
#[test]
fn another_secret_in_main_mode_cannot_be_read() {
    let rehearsal = rehearsed(trees(PAIR, &format!("version = \"ikev1\"\n{CBC}")), &[(1, "PSK 0x6e", "PSK 0x6f")], None);
    assert_eq!(script(&rehearsal).last().map(String::as_str), Some("coldstore INFORMATIONAL> N(PAYLOAD-MALFORMED)"));
    assert_eq!(failed(&rehearsal), [(Stage::Authentication, "PAYLOAD-MALFORMED")]);
}

/// RFC 2409 section 5.5: the networks of a quick mode are not narrowed.
#[test]
fn other_networks_end_a_quick_mode() {
    let trees = trees(PAIR, &format!("version = \"ikev1\"\n{CBC}"));
    let rehearsal = rehearsed(trees, &[(1, "rightsubnet=10.41.0.0/22", "rightsubnet=10.41.2.0/24")], None);
    assert_eq!(failed(&rehearsal), [(Stage::ChildSa, "INVALID-ID-INFORMATION")]);
}

/// RFC 2409 section 5.5: a quick mode for new keys is an offer of whoever sends it, so that an end which could answer may fail
/// to ask.
#[test]
fn new_keys_can_be_refused_to_the_end_that_answered() {
    let trees = trees(["libreswan", "strongswan"], &format!("version = \"ikev1\"\n{CBC}pfs = false\n"));
    let named = "esp_proposals = aes256-sha512\n";
    let rehearsal = rehearsed(trees, &[(1, named, "# the default\n")], Some(0));
    assert_eq!(failed(&rehearsal), [(Stage::RekeyChild, "NO-PROPOSAL-CHOSEN")], "{rehearsal:#?}");
    assert_eq!(rehearsal.opened.len(), 1);
    let script = script(&rehearsal);
    let rekey = ["coldstore quick mode> SA, Ni, IDci, IDcr", "packhouse INFORMATIONAL> N(NO-PROPOSAL-CHOSEN)"];
    assert_eq!(script[script.len() - 2..], rekey);
    assert!(rehearsal.failures[0].reason.starts_with("coldstore offers only the first value of each kind in IKEv1: "));
    assert_eq!((rehearsal.failures[0].cures.len(), rehearsal.failures[0].cures[0].end), (1, 1));
}

/// RFC 7296 section 2.5: each message says its version.
#[test]
fn another_version_is_answered_by_nobody_who_is_meant() {
    let rehearsal = rehearsed(trees(["libreswan", "strongswan"], CBC), &[(1, "version = 2", "version = 1")], Some(0));
    assert_eq!(failed(&rehearsal), [(Stage::IkeSa, "NO_PROPOSAL_CHOSEN")]);
    assert!(rehearsal.failures[0].reason.contains("opens with IKEv2, coldstore has the connection for IKEv1"));
    // One that the daemon drops is not even there.
    let rehearsal = rehearsed(trees(PAIR, CBC), &[(1, "ikev2=insist", "ikev2=no")], None);
    assert_eq!(failed(&rehearsal), [(Stage::Load, "")]);
    assert_eq!(rehearsal.failures[0].cures[0].spelling.as_deref(), Some("ikev2=no"));
}

/// From the other end the same pair is the same tunnel.
#[test]
fn either_end_can_open() {
    for opener in [0, 1] {
        let rehearsal = rehearsed(trees(["openiked", "strongswan"], CBC), &[], Some(opener));
        assert!(rehearsal.works() && rehearsal.initiator == opener, "{rehearsal:#?}");
        assert_eq!(script(&rehearsal)[0].split(' ').next(), Some(["packhouse", "coldstore"][opener]));
    }
}

#[test]
fn packets_that_nobody_may_send_reopen_nothing() {
    let services = "services = { packhouse = [\"ssh\"] }\ninitiator = \"coldstore\"";
    let stages = |tunnel: &str, changed: &[Edit]| {
        let rehearsal = rehearsed(trees(["strongswan", "strongswan"], tunnel), changed, Some(1));
        rehearsal.failures.iter().map(|failure| failure.stage).collect::<Vec<_>>()
    };
    let waits: &[Edit] = &[(1, "dpd_action = restart", "dpd_action = trap")];
    assert_eq!(stages(services, waits), [Stage::Return]);
    assert_eq!(stages(services, &[]), []);
    // Hosts that may open connections ask for it.
    assert_eq!(stages("initiator = \"coldstore\"", waits), []);
}

#[test]
fn a_nat_device_forgets_who_sends_nothing() {
    let behind = [IpAddr::from([10, 99, 0, 2]), REACHED[1]];
    let stages = |platforms: [&str; 2], tunnel: &str, own| {
        let mut trees = trees(platforms, tunnel);
        for file in trees[0].files.values_mut() {
            file.text =
                file.text.replace("left=198.51.100.20", "left=10.99.0.2").replace("local_addrs = 198.51.100.20", "local_addrs = 10.99.0.2");
        }
        let rehearsal = rehearsed_at(trees, &[], Some(0), own);
        rehearsal.failures.iter().map(|failure| failure.stage).collect::<Vec<_>>()
    };
    let (pair, quiet) = (["libreswan", "strongswan"], "liveness = \"off\"");
    assert_eq!(stages(pair, quiet, behind), [Stage::Silence]);
    for (platforms, tunnel) in [
        (pair, String::new()),
        (pair, format!("{quiet}\nversion = \"ikev1\"\nstrength = \"common\"")),
        (pair, format!("{quiet}\nopens = \"on-traffic\"\ninitiator = \"either\"")),
        (["strongswan", "strongswan"], quiet.to_owned()),
    ] {
        assert_eq!(stages(platforms, &tunnel, behind), [], "{platforms:?} {tunnel}");
    }
}
