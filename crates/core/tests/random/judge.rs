//! Pairs of gateways with something changed at random: what is held against each other and what is rehearsed never contradict.
//!
//! `USPAN_CASES` says how many pairs; without it two hundred.
#![allow(clippy::disallowed_macros, reason = "what was met is for whoever runs it")]

use std::cell::{Cell, RefCell};
use std::collections::BTreeMap;

use crate::descriptions::{description, supplied};
use crate::known;
use proptest::prelude::*;
use proptest::test_runner::{Config, FileFailurePersistence, TestRunner};
use uspan_core::algorithm::{Kind, Transform};
use uspan_core::*;

/// A change of a gateway: the connection, a number to choose by.
type Edit = fn(&mut Gateway, usize);

fn ike(gateway: &mut Gateway) -> &mut Ike {
    gateway.connections[0].ike_mut()
}

/// The Child SA that a number chooses; nothing where there is none.
fn child(gateway: &mut Gateway, n: usize) -> Option<&mut Child> {
    let children = &mut gateway.connections[0].children;
    let count = children.len();
    if count == 0 { None } else { Some(&mut children[n % count]) }
}

fn pick<T: Clone>(n: usize, of: &[T]) -> T {
    of[n % of.len()].clone()
}

fn net(text: &str) -> ipnet::IpNet {
    text.parse().expect("a network")
}

fn endpoints(n: usize, now: &Endpoint) -> Endpoint {
    pick(
        n,
        &[
            Endpoint::At("192.0.2.99".parse().expect("an address")),
            Endpoint::At("10.200.7.7".parse().expect("an address")),
            Endpoint::Anywhere,
            Endpoint::Named("elsewhere.example.net".to_owned()),
            Endpoint::Within(net("192.0.2.0/24")),
            Endpoint::Within(net("0.0.0.0/0")),
            Endpoint::OneOf(vec![now.clone(), Endpoint::At("192.0.2.98".parse().expect("an address"))]),
        ],
    )
}

fn identities(n: usize) -> Identity {
    pick(
        n,
        &[
            Identity::Name("stranger.example.net".to_owned()),
            Identity::Mail("stranger@example.net".to_owned()),
            Identity::Address("192.0.2.99".parse().expect("an address")),
            Identity::Name("packhouse.example.net".to_owned()),
            Identity::Anybody,
        ],
    )
}

fn proposals(n: usize, now: &[Proposal], protocol: Protocol) -> Vec<Proposal> {
    let (gcm, cbc) = (Transform::encryption(20, 256), Transform::encryption(12, 128));
    let beside = |cipher: Transform| {
        let hash = [Transform::integrity(12), Transform::integrity(14)];
        let base = std::iter::once(cipher).chain(hash.into_iter().filter(move |_| !cipher.is_aead()));
        let ike = [Transform::prf(5), Transform::key_exchange(19)];
        let numbers = [Transform::sequence_numbers(false)];
        let more = if protocol == Protocol::Ike { ike.to_vec() } else { numbers.to_vec() };
        Proposal::new(protocol, base.chain(more))
    };
    match n % 6 {
        0 => vec![beside(gcm)],
        1 => vec![beside(cbc)],
        2 => now.iter().rev().cloned().collect(),
        3 => now.iter().take(1).cloned().collect(),
        4 => now.iter().map(Proposal::firsts).collect(),
        _ => now.iter().skip(1).cloned().chain([beside(cbc)]).collect(),
    }
}

/// Each with the parameters that it may make unfit.
const EDITS: &[(&[Parameter], Edit)] = {
    use Parameter::*;
    &[
        // What follows from the version and from the group of the IKE SA goes along.
        (&[KeyExchange, ExchangeMode, IkeProposals, Authentication, SharedSecret, EspProposals, Pfs, SequenceNumbers], |g, n| {
            ike(g).exchange.value = pick(n, &[uspan_core::Exchange::V2, uspan_core::Exchange::V1Main, uspan_core::Exchange::V1Aggressive]);
        }),
        (&[Address, Identity, SharedSecret], |g, n| {
            let now = g.connections[0].local.value.clone();
            g.connections[0].local.value = endpoints(n, &now);
        }),
        (&[Address, Identity, SharedSecret], |g, n| {
            let now = g.connections[0].remote.value.clone();
            g.connections[0].remote.value = endpoints(n, &now);
        }),
        (&[Identity, SharedSecret, Key], |g, n| ike(g).local_identity.value = identities(n)),
        (&[Identity, SharedSecret, Key], |g, n| ike(g).remote_identity.value = identities(n)),
        (&[Authentication, SharedSecret, Key, Identity], |g, n| {
            ike(g).local_method.value = pick(n, &[Method::SharedSecret, Method::PublicKey, Method::Certificate]);
        }),
        (&[Authentication, SharedSecret, Key, Identity], |g, n| {
            ike(g).remote_method.value = pick(n, &[Method::SharedSecret, Method::PublicKey, Method::Certificate]);
        }),
        (&[SharedSecret], |g, _| g.secrets.clear()),
        (&[SharedSecret], |g, _| g.secrets.iter_mut().for_each(|entry| entry.secret = Secret::new(b"other bytes, for a test".to_vec()))),
        (&[Key], |g, _| g.pinned.clear()),
        (&[Key], |g, _| g.key_pairs.clear()),
        (&[Key], |g, _| g.authorities.clear()),
        (&[IkeProposals, Pfs], |g, n| ike(g).proposals.value = proposals(n, &ike(g).proposals.value.clone(), uspan_core::Protocol::Ike)),
        (&[EspProposals, Pfs, SequenceNumbers], |g, n| {
            let Some(child) = child(g, n) else { return };
            child.esp.value = proposals(n, &child.esp.value.clone(), uspan_core::Protocol::Esp);
        }),
        (&[Pfs, EspProposals], |g, n| {
            let groups =
                pick(n, &[vec![], vec![Transform::key_exchange(19)], vec![Transform::key_exchange(14), Transform::key_exchange(20)]]);
            let Some(child) = child(g, n / 3) else { return };
            child.esp.value.iter_mut().for_each(|one| one.set(Kind::KeyExchange, groups.clone()));
        }),
        (&[SequenceNumbers], |g, n| {
            let numbers = pick(n, &[vec![true], vec![false], vec![true, false]]).into_iter().map(Transform::sequence_numbers);
            let Some(child) = child(g, n / 3) else { return };
            child.esp.value.iter_mut().for_each(|one| one.set(Kind::SequenceNumbers, numbers.clone()));
        }),
        (&[EspMode, Selectors], |g, n| {
            let Some(child) = child(g, n) else { return };
            child.mode.value = if child.mode.value == Mode::Tunnel { Mode::Transport } else { Mode::Tunnel };
        }),
        (&[Protocol, Selectors], |g, n| {
            let Some(child) = child(g, n) else { return };
            child.protocol.value = pick(n, &[None, Some(47), Some(6)]);
        }),
        (&[Selectors], |g, n| {
            let Some(child) = child(g, n / 8) else { return };
            let list = if n.is_multiple_of(2) { &mut child.local.value } else { &mut child.remote.value };
            match n / 2 % 4 {
                0 => *list = list.iter().filter_map(|net| ipnet::IpNet::new(net.addr(), net.prefix_len().min(24) + 2).ok()).collect(),
                1 => *list = vec![net("10.99.0.0/16")],
                2 => list.push(net("10.98.0.0/16")),
                _ => *list = vec![net("0.0.0.0/0")],
            }
        }),
        (&[Selectors], |g, n| {
            let Some(child) = child(g, n) else { return };
            std::mem::swap(&mut child.local.value, &mut child.remote.value);
        }),
        (&[Selectors, EspProposals, Pfs, EspMode], |g, n| {
            let children = &mut g.connections[0].children;
            if n.is_multiple_of(2) && children.len() > 1 {
                children.remove(n / 2 % children.len());
            } else if let Some(first) = children.first().cloned() {
                let mut more = Child { name: "one_more".to_owned(), ..first };
                more.local.value = vec![net("10.97.0.0/16")];
                children.push(more);
            }
        }),
        // What each end has for itself.
        (&[], |g, n| ike(g).lifetime.value = Lifetime::with_tenth(std::time::Duration::from_secs(600 + n as u64 % 9000))),
        (&[], |g, n| {
            let Some(child) = child(g, n) else { return };
            child.lifetime.value = Lifetime::with_tenth(std::time::Duration::from_secs(600 + n as u64 % 9000));
        }),
        (&[Address, EspProposals, Pfs, SequenceNumbers, Identity, Selectors, EspMode], |g, n| {
            let openings =
                [(false, false), (false, true), (true, false), (true, true)].map(|(start, trap)| uspan_core::Opening { start, trap });
            g.connections[0].children.iter_mut().for_each(|child| child.opening.value = pick(n, &openings));
        }),
        (&[], |g, n| {
            let Some(child) = child(g, n) else { return };
            child.replay_window.value = pick(n, &[32, 64, 1024]);
        }),
    ]
};

#[allow(clippy::disallowed_methods, reason = "how long it tries is up to whoever runs it")]
fn cases() -> u32 {
    known::cases(200)
}

#[test]
fn what_is_fatal_is_what_does_not_come_up() {
    let seeds = FileFailurePersistence::WithSource("seeds");
    let config = Config {
        cases: cases(),
        failure_persistence: Some(Box::new(seeds)),
        source_file: Some(file!()),
        max_shrink_iters: 200,
        ..Config::default()
    };
    let edits = prop::collection::vec((0..EDITS.len(), 0..2usize, any::<u16>()), 1..4);
    let (fatal, fine, other_end) = (Cell::new(0u32), Cell::new(0u32), Cell::new(0u32));
    let met = RefCell::new(BTreeMap::<Parameter, u32>::new());
    let ran = TestRunner::new(config).run(&(description(), edits), |(text, edits)| {
        let (description, _) = Description::parse(&Source::new("random.span.toml", text.as_str()), known::context());
        let built = build(&description, &supplied(b"not a real secret, only for this test".to_vec()));
        prop_assert!(!any_stops(&built.findings), "{text}\n{:#?}", built.findings);
        let tunnel = &built.tunnels[0];
        // The filters are another matter: here it is about what is negotiated.
        let mut gateways = tunnel.gateways.clone().map(|gateway| Gateway { filter: None, ..gateway });
        for (edit, end, n) in &edits {
            EDITS[*edit].1(&mut gateways[*end], usize::from(*n));
        }
        let site = |end: usize| description.sites.iter().find(|site| site.name.value == tunnel.ends[end]).expect("a site");
        let actor = |end: usize| {
            let profile = &site(end).platform.value;
            let ends_open = profile.own_end == OwnEnd::ByAddress;
            let reading = ReadGateway { name: &tunnel.ends[end], gateway: &gateways[end], ends_open, tree: None };
            Actor { reading, behaviour: &profile.behaviour, stands: site(end).stands() }
        };
        let compared = compare_ends(actor(0), actor(1));
        let came = rehearse([actor(0), actor(1)], None);
        prop_assert_eq!(compared.pairs.len(), came.all.len());
        let Some(rehearsal) = came.all.first() else { return Ok(()) };
        let rows: Vec<_> =
            compared.pairs[0].parameters.iter().filter(|row| row.gravity == Gravity::Fatal && row.parameter.is_negotiated()).collect();
        prop_assert_eq!(rows.is_empty(), rehearsal.works(), "{}\n{:?}\n{:#?}\n{:#?}", text, edits, rows, rehearsal.failures);
        // What was not touched is not to blame, and each that is blamed says why.
        let touched: Vec<_> = edits.iter().flat_map(|(edit, ..)| EDITS[*edit].0).collect();
        for row in &rows {
            prop_assert!(touched.contains(&&row.parameter), "{}\n{:?}\n{:#?}\n{:#?}", text, edits, row, rehearsal.failures);
            prop_assert!(!row.practice.is_empty() && !row.remedy.is_empty(), "{row:#?}");
            *met.borrow_mut().entry(row.parameter).or_default() += 1;
        }
        // The one that it fails for is among them.
        for cause in rehearsal.failures.iter().flat_map(|failure| &failure.causes) {
            prop_assert!(rows.iter().any(|row| row.parameter == cause.parameter), "{cause:?}\n{rows:#?}");
        }
        let count = if rows.is_empty() { &fine } else { &fatal };
        count.set(count.get() + 1);
        let turned = rows.is_empty() && compared.pairs[0].parameters.iter().any(|row| row.practice.starts_with("Fine as long as"));
        other_end.set(other_end.get() + u32::from(turned));
        Ok(())
    });
    ran.unwrap_or_else(|error| panic!("{error}"));
    let met = met.into_inner();
    let negotiated: Vec<_> = met.iter().map(|(parameter, count)| format!("{} {count}", parameter.words())).collect();
    println!("{} fatal, {} come up, {} from one end alone; {}", fatal.get(), fine.get(), other_end.get(), negotiated.join(", "));
    assert!(fatal.get() > cases() / 5 && fine.get() > cases() / 20, "both are tried");
}
