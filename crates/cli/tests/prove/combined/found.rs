//! What combinations found, and what stands for each since: a case of its own, and what the paper says beforehand.

use std::fmt::Write as _;
use std::path::Path;

use crate::suite;

/// Where a case of its own is.
pub enum Case {
    /// In the lab's suite, by what it shows.
    Suite(&'static str),
    /// A description that is refused or warned of, by its file.
    Told(&'static str),
}

use Case::{Suite, Told};

/// Something that failed, or was refused without need.
pub struct Found {
    /// What was combined, and what came of it.
    what: &'static str,
    cases: &'static [Case],
    /// What says so before anything is installed.
    said: &'static str,
    /// What was changed.
    mended: &'static str,
}

#[rustfmt::skip]
const FAILED: &[Found] = &[
    Found {
        what: "An end that waits for traffic of hosts that may open no connection: it never opens.",
        cases: &[Told("broken/US322-either"), Told("broken/US322-silent")],
        said: "US322",
        mended: "refused, also where either end may open",
    },
    Found {
        what: "A host and a network behind one gateway, opened by their first packets: the kernel asks its daemon for the SAs of one pair at a time, and those of the second come up to 30 s later.",
        cases: &[Suite("a host and a network, with the first packet")],
        said: "`verify-steps`: one pair has its ESP SAs, another none",
        mended: "nothing can be; it is said, and hosts of the lab try again as others do",
    },
    Found {
        what: "AES-CCM in ESP in UDP at Libreswan: packets leave, and the other end takes none.",
        cases: &[Suite("AES-CCM, NAT traversal forced"), Told("broken/US410-ccm-in-udp"), Told("careless/US344-ccm-dynamic")],
        said: "US410, US344; the rehearsal: what crosses the Child SAs",
        mended: "such a key is no choice where ESP travels in UDP, and both keys are named",
    },
    Found {
        what: "Networks of another family than the gateways' where selectors steer: no route leads there.",
        cases: &[Suite("IPv4 networks over IPv6 gateways, policy-based"), Told("careless/US343-other-family")],
        said: "US343, US603",
        mended: "a route of its own where it can be had, a warning otherwise; refused for OpenIKED, whose SAs take none",
    },
    Found {
        what: "A pair that is not carried, or a host of no network, masqueraded to the gateway's inside address: it gets into the tunnel.",
        cases: &[Suite("what is not carried"), Told("careless/US338-many")],
        said: "`check`: what is not carried is dropped; `walk`",
        mended: "both gateways drop what is not carried, before it is translated",
    },
    Found {
        what: "IPv6 networks in GRE over a narrow path: the interface has no room for IPv6.",
        cases: &[Told("broken/US341-small")],
        said: "US341",
        mended: "refused",
    },
    Found {
        what: "Libreswan behind a NAT device, IKEv2, liveness off: the device forgets it, and new keys of the peer do not arrive.",
        cases: &[Suite("behind a NAT device, liveness off"), Told("broken/US226-no-liveness"), Told("careless/US227-dynamic")],
        said: "US226, US227; the rehearsal: what is left after minutes of silence",
        mended: "refused; in IKEv1, where it sends keepalives, it is not",
    },
    Found {
        what: "Several pairs opened by Libreswan, whose hosts may open no connection: with a dead peer it waits for their next packet, which never comes.",
        cases: &[Suite("several pairs, opened by a site whose hosts may open nothing")],
        said: "the rehearsal: what comes back once the peer was started again",
        mended: "it opens them anew by itself there",
    },
    Found {
        what: "Selectors limited to ICMPv6 between networks of IPv4: nothing crosses.",
        cases: &[Told("broken/US339-other-family")],
        said: "US339",
        mended: "refused, either way round",
    },
    Found {
        what: "Several pairs with a peer at a dynamic address, taken out at Libreswan: it dies over it when the connection goes first with which an IKE SA began, and its SAs stay in the kernel.",
        cases: &[Suite("several pairs with a dynamic address, by hand")],
        said: "nothing: it is not to be seen any more",
        mended: "such IKE SAs end before their connections, in `retire` and in `take-up.sh`",
    },
    Found {
        what: "Several pairs with a peer at a dynamic address, taken out at Libreswan: it dies when the connection goes first with which an IKE SA began, and its SAs stay in the kernel.",
        cases: &[Suite("several pairs with a dynamic address, by hand")],
        said: "nothing: it is not to be seen any more",
        mended: "such IKE SAs end before their connections, in `retire` and in `take-up.sh`",
    },
    Found {
        what: "PFS with a weak group that is allowed, and is not that of the IKE SA, at Libreswan: new keys come with the group of the IKE SA, without a word.",
        cases: &[Told("broken/US417-weak-group")],
        said: "US417",
        mended: "refused, as other groups were",
    },
];

#[rustfmt::skip]
const REFUSED: &[Found] = &[
    Found {
        what: "GRE in tunnel mode.",
        cases: &[Suite("GRE, tunnel mode")],
        said: "US336 stays for transport mode between networks",
        mended: "taken",
    },
    Found {
        what: "ESP in UDP with GRE, and with what the gateways themselves send.",
        cases: &[Suite("GRE, NAT traversal forced"), Suite("hosts, NAT traversal forced")],
        said: "US327 stays where a NAT device stands on the way",
        mended: "taken",
    },
    Found {
        what: "Subjects as identities with a shared secret, and with bare public keys.",
        cases: &[Suite("subjects as identities, a shared secret"), Suite("public keys, a subject as identity"), Told("broken/US536-public-keys")],
        said: "US536 stays where OpenIKED is to find a bare key by a subject",
        mended: "taken",
    },
    Found {
        what: "A gateway at a dynamic address without an identity, or with an address as identity.",
        cases: &[Suite("a dynamic address and no identity"), Suite("a dynamic address, and another one as identity"), Told("careless/US523-address-of-another")],
        said: "nothing; US523 warns of an address",
        mended: "the site's name stands in",
    },
    Found {
        what: "Extended sequence numbers in IKEv1.",
        cases: &[Suite("extended sequence numbers, IKEv1")],
        said: "US326 stays where a platform has none",
        mended: "taken where both have them",
    },
    Found {
        what: "Everything through a hub that is policy-based.",
        cases: &[Suite("everything through a policy-based site"), Told("broken/US334-everything-by-selectors"), Told("broken/US334-transit-by-selectors")],
        said: "US334 stays for the end that reaches it",
        mended: "taken: a hub's selectors name what goes to the member, and nothing that stays",
    },
    Found {
        what: "Public keys and certificates in IKEv1.",
        cases: &[Suite("public keys, IKEv1"), Suite("certificates, IKEv1"), Told("broken/US530-certificates-v1")],
        said: "US530 stays for what a platform does not have",
        mended: "taken between two strongSwans; with Libreswan, certificates of RSA keys",
    },
    Found {
        what: "Groups that the registry of IKEv1 does not have.",
        cases: &[Suite("IKEv1, curve25519"), Told("broken/US410-curve-v1")],
        said: "US410 stays for what one of the two does not have in IKEv1",
        mended: "taken where both have them under their numbers of IKEv2",
    },
    Found {
        what: "Main mode of IKEv1 with a peer at a dynamic address.",
        cases: &[Suite("IKEv1, main mode, a dynamic address"), Told("broken/US421-at-a-partner"), Told("broken/US421-second-dynamic-peer")],
        said: "US421 stays for a second such peer, and for a partner's gateway",
        mended: "taken for one such peer: its secret is that of the first connection for a peer at any address",
    },
    Found {
        what: "What the gateways send each other beside what networks do, opened by hand by Libreswan.",
        cases: &[Suite("what the gateways send each other beside what networks do, by hand"), Told("broken/US307-hosts-beside")],
        said: "US307 stays where it is to reopen both by itself",
        mended: "taken",
    },
];

/// The page of the reference.
pub fn page() -> String {
    let mut text = String::from(
        "# What combinations found\n\nGenerated by the test `the_page_of_what_combinations_found_is_current`; do not edit. Descriptions that \
         combine whatever the language has are proven in the lab, at random and until each pair of values was tried \
         (`whatever_is_combined_comes_up_at_the_first_try`); what the check refuses is tried as well, let through \
         (`what_is_refused_does_not_come_up`).\n",
    );
    for (title, said, all) in
        [("What did not come up", "what says so before", FAILED), ("What was refused, and the daemons do", "what stays refused", REFUSED)]
    {
        let _ = writeln!(text, "\n## {title}\n\n| what was combined | what was changed | {said} | cases |\n|---|---|---|---|");
        for found in all {
            let cases: Vec<_> = found.cases.iter().map(case_words).collect();
            let _ = writeln!(text, "| {} | {} | {} | {} |", found.what, found.mended, found.said, cases.join(", "));
        }
    }
    text
}

fn case_words(case: &Case) -> String {
    match case {
        Suite(shows) => format!("lab: {shows}"),
        Told(file) => format!("`{file}`"),
    }
}

/// Cases that are named and not there.
pub fn missing() -> Vec<String> {
    let suite = suite::all();
    let tests = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests");
    let there = |case: &&Case| match case {
        Suite(shows) => suite.iter().any(|case| case.shows == *shows),
        Told(file) => tests.join(format!("{file}.span.toml")).exists(),
    };
    FAILED.iter().chain(REFUSED).flat_map(|found| found.cases).filter(|case| !there(case)).map(case_words).collect()
}
