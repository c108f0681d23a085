//! Law 3 over random gateways of the hub: what a platform or a packet filter writes reads back the same, and what it cannot say it refuses
//! instead of dropping it.
//!
//! `USPAN_CASES` says how many gateways each one gets; without it a hundred.
#![allow(clippy::disallowed_macros, reason = "how many were written and how many refused is for whoever runs it")]

use std::cell::Cell;
use std::net::IpAddr;
use std::time::Duration;

use crate::gateways::{filter_rules, gateway, remarks};
use crate::known;
use proptest::prelude::*;
use proptest::test_runner::{Config, FileFailurePersistence, TestRunner};
use uspan_core::algorithm::{Kind, Transform};
use uspan_core::*;

#[allow(clippy::disallowed_methods, reason = "how long it tries is up to whoever runs it")]
fn cases() -> u32 {
    known::cases(100)
}

/// Seeds that failed are kept beside this file, and tried again first.
fn config() -> Config {
    let kept = FileFailurePersistence::WithSource("seeds");
    Config { cases: cases(), failure_persistence: Some(Box::new(kept)), ..Config::with_source_file(file!()) }
}

/// One of a list, by a number that can be anything.
fn pick<T: Clone>(number: u64, list: &[T]) -> T {
    list[usize::try_from(number % list.len() as u64).expect("small")].clone()
}

fn net(number: u64) -> ipnet::IpNet {
    pick(number, &["10.9.0.0/16", "10.9.4.7/32", "0.0.0.0/0", "fd00::/64", "2001:db8::1/128", "192.0.2.0/31"]).parse().expect("a network")
}

fn time(number: u64) -> Duration {
    pick(number, &[Duration::ZERO, Duration::from_millis(500), Duration::from_secs(1), Duration::from_secs(7), Duration::from_secs(86_401)])
        + Duration::from_secs(number % 50)
}

fn identities(number: u64) -> Identity {
    let name = |text: &str| text.to_owned();
    pick(
        number,
        &[
            Identity::Anybody,
            Identity::Implied("its own address"),
            Identity::Free(name("packhouse/1:x")),
            Identity::Free(name("a ] b")),
            Identity::Name(name("gw.example.net")),
            Identity::Name(name("with@sign")),
            Identity::Name(name("203.0.113.9")),
            Identity::Mail(name("no-sign")),
            Identity::Mail(name("x@y=z")),
            Identity::Name(name("quote\"d")),
            Identity::Address("2001:db8::7".parse().expect("an address")),
        ],
    )
}

fn endpoints(number: u64) -> Endpoint {
    let at = |text: &str| Endpoint::At(text.parse::<IpAddr>().expect("an address"));
    pick(
        number,
        &[
            Endpoint::Anywhere,
            Endpoint::Named("gw.example.net".to_owned()),
            Endpoint::Within(net(number)),
            Endpoint::OneOf(vec![at("192.0.2.5"), at("192.0.2.6")]),
            Endpoint::OneOf(vec![at("192.0.2.5"), Endpoint::Anywhere]),
            at("2001:db8::9"),
        ],
    )
}

fn transforms(number: u64) -> Transform {
    pick(
        number,
        &[
            Transform::encryption(12, 128),
            Transform::encryption(20, 256),
            Transform::encryption(28, 0),
            Transform::encryption(32, 0),
            Transform::prf(5),
            Transform::prf(7),
            Transform::integrity(12),
            Transform::integrity(14),
            Transform::integrity(4711),
            Transform::key_exchange(14),
            Transform::key_exchange(31),
            Transform::key_exchange(36),
            Transform::sequence_numbers(true),
            Transform::sequence_numbers(false),
            Transform::new(Kind::AdditionalKeyExchange(1), 36),
        ],
    )
}

/// A change of a gateway: anything that the hub can say, whatever the platform.
type Change = fn(&mut Gateway, u64);

fn connection(gateway: &mut Gateway) -> &mut Connection {
    &mut gateway.connections[0]
}

fn child(gateway: &mut Gateway, number: u64) -> &mut Child {
    let children = &mut connection(gateway).children;
    let at = usize::try_from(number % children.len() as u64).expect("small");
    &mut children[at]
}

fn proposal(list: &mut Vec<Proposal>, number: u64) {
    match number % 4 {
        0 => list.clear(),
        1 => list.reverse(),
        2 => list.push(Proposal::new(pick(number / 4, &[Protocol::Ike, Protocol::Esp, Protocol::Ah]), [transforms(number / 7)])),
        _ => list.iter_mut().for_each(|one| one.push(transforms(number / 4))),
    }
}

const CHANGES: &[Change] = &[
    |g, n| connection(g).name = pick(n, &["harvest", "two words", "", "1st", "x.y", "with\"quote", "ünd"]).to_owned(),
    |g, n| connection(g).local.value = endpoints(n),
    |g, n| connection(g).remote.value = endpoints(n),
    |g, n| connection(g).encapsulation.value = pick(n, &[Encapsulation::Automatic, Encapsulation::Forced, Encapsulation::Off]),
    |g, n| connection(g).interface.value = pick(n, &[None, Some(0), Some(1), Some(u32::MAX)]),
    |g, n| connection(g).ike_mut().exchange.value = pick(n, &[Exchange::V2, Exchange::V1Main, Exchange::V1Aggressive]),
    |g, n| connection(g).ike_mut().local_identity.value = identities(n),
    |g, n| connection(g).ike_mut().remote_identity.value = identities(n),
    |g, n| connection(g).ike_mut().local_method.value = pick(n, &[Method::SharedSecret, Method::PublicKey, Method::Certificate]),
    |g, n| connection(g).ike_mut().remote_method.value = pick(n, &[Method::SharedSecret, Method::PublicKey, Method::Certificate]),
    |g, n| proposal(&mut connection(g).ike_mut().proposals.value, n),
    |g, n| connection(g).ike_mut().lifetime.value = Lifetime { hard: time(n), margin: time(n / 5) },
    |g, n| connection(g).ike_mut().liveness.value = pick(n, &[None, Some(time(n / 2))]),
    |g, n| connection(g).ike_mut().persistent.value ^= n % 2 == 0,
    |g, n| {
        let twin = Child { name: format!("harvest_twin{n}"), ..child(g, n).clone() };
        connection(g).children.push(twin);
    },
    |g, n| child(g, n).name = pick(n, &["harvest_x", "other", "harvest_a b", ""]).to_owned(),
    |g, n| child(g, n).local.value.push(net(n)),
    |g, n| child(g, n).remote.value = vec![net(n), net(n / 6)],
    |g, n| child(g, n).protocol.value = pick(n, &[None, Some(0), Some(17), Some(47)]),
    |g, n| proposal(&mut child(g, n).esp.value, n / 3),
    |g, n| child(g, n).mode.value = pick(n, &[Mode::Tunnel, Mode::Transport]),
    |g, n| child(g, n).lifetime.value = Lifetime { hard: time(n), margin: time(n / 5) },
    |g, n| child(g, n).opening.value = pick(n, &[Opening::START, Opening::TRAP, Opening::BOTH, Opening::WAIT]),
    |g, n| {
        child(g, n).on_dead_peer.value =
            pick(n / 2, &[None, Some(OnDeadPeer::Reopen), Some(OnDeadPeer::AwaitTraffic), Some(OnDeadPeer::Forget)]);
    },
    |g, n| child(g, n).replay_window.value = pick(n, &[0, 32, 64, 128, u32::MAX]),
    |g, n| child(g, n).dscp.value = pick(n, &[Dscp::Outwards, Dscp::Both, Dscp::Never]),
    |g, n| g.secrets.push(SharedSecret::between([identities(n), identities(n / 11)], Secret::new(n.to_be_bytes().to_vec()))),
    |g, _| g.secrets.clear(),
    |g, _| g.key_pairs.clear(),
    |g, _| {
        let more = g.pinned.clone();
        g.pinned.extend(more);
    },
];

/// Whether a refusal says what it is about, and what to do.
fn speaks(refused: &[Unwritable]) -> bool {
    !refused.is_empty() && refused.iter().all(|one| one.what.len() > 3 && !one.remedy.is_empty())
}

fn holds(place: usize) {
    let profile = known::profile(place);
    let (written, refused) = (Cell::new(0), Cell::new(0));
    let change = (0..CHANGES.len(), any::<u64>());
    let strategy = (gateway(place), prop::collection::vec(change, 0..4));
    let config = config();
    let ran = TestRunner::new(config).run(&strategy, |(sayable, changes)| {
        let mut gateway = sayable;
        changes.iter().for_each(|(which, number)| CHANGES[*which](&mut gateway, *number));
        match profile.write(&gateway, &remarks()) {
            Ok(tree) => {
                written.set(written.get() + 1);
                prop_assert_eq!(&tree, &profile.write(&gateway, &remarks()).expect("as before"));
                let (mut read, findings) = profile.read(&tree);
                profile.family.hand_over(&mut read, &gateway);
                prop_assert!(findings.is_empty(), "{findings:#?}");
                prop_assert_eq!(read, gateway);
            }
            Err(why) => {
                refused.set(refused.get() + 1);
                prop_assert!(!changes.is_empty(), "it can say that: {why:?}");
                prop_assert!(speaks(&why), "{why:?}");
            }
        }
        Ok(())
    });
    ran.unwrap_or_else(|error| panic!("{}: {error}", profile.word));
    eprintln!("{}: {} gateways written, {} refused", profile.word, written.get(), refused.get());
    // One in fifty: chance alone does not leave a half out, with few cases either.
    assert!(written.get() * 50 > cases() && refused.get() * 50 > cases(), "both halves are tried");
}

#[test]
fn the_first_platform_says_a_gateway_or_refuses_it() {
    holds(0);
}

#[test]
fn the_second_platform_says_a_gateway_or_refuses_it() {
    holds(1);
}

#[test]
fn the_third_platform_says_a_gateway_or_refuses_it() {
    holds(2);
}

#[test]
fn a_list_of_parameters_says_a_gateway_or_refuses_it() {
    holds(3);
}

#[test]
fn every_platform_has_its_test() {
    assert_eq!(known::context().profiles.len(), 4);
}

/// Changes of rules that a filter may not be able to say.
const RULE_CHANGES: &[Change] = &[
    |g, n| {
        g.filter.iter_mut().flat_map(|f| &mut f.rules).take(1).for_each(|rule| {
            rule.hook = pick(n, &[Hook::Input, Hook::Forward, Hook::Output, Hook::Departure, Hook::Arrival]);
        });
    },
    |g, n| {
        g.filter.iter_mut().flat_map(|f| &mut f.rules).take(1).for_each(|rule| {
            rule.protection = Protection::Into(pick(n, &["us-x", "x\" accept", "a b", "", "-i"]).to_owned());
        });
    },
    |g, n| g.filter.iter_mut().flat_map(|f| &mut f.rules).take(1).for_each(|rule| rule.from = net(n)),
    |g, n| {
        g.filter.iter_mut().flat_map(|f| &mut f.rules).take(1).for_each(|rule| {
            rule.traffic = pick(
                n,
                &[Traffic::Udp(vec![]), Traffic::Udp(vec![500]), Traffic::Ping, Traffic::To(Transport::Udp, Ports { first: 9, last: 3 })],
            );
        });
    },
    |g, _| g.filter.iter_mut().for_each(|filter| filter.rules.clear()),
    |g, _| g.filter.iter_mut().for_each(|filter| filter.rules.reverse()),
    |g, n| g.nat.iter_mut().take(1).for_each(|rule| rule.order = i32::try_from(n % 300).expect("small") - 150),
    |g, n| g.nat.iter_mut().take(1).for_each(|rule| rule.to = net(n)),
    |g, _| g.nat.reverse(),
    |g, n| g.segment_limits.iter_mut().take(1).for_each(|limit| limit.interface = pick(n, &["", "x y", "us-x", "a\"b"]).to_owned()),
    |g, n| g.segment_limits.iter_mut().take(1).for_each(|limit| limit.bytes = u16::try_from(n % 65_536).expect("small")),
];

#[test]
fn a_packet_filter_says_its_rules_or_refuses_them() {
    for filter in &known::context().filters {
        let (written, refused) = (Cell::new(0), Cell::new(0));
        let strategy = (filter_rules(), prop::collection::vec((0..RULE_CHANGES.len(), any::<u64>()), 0..4));
        let config = config();
        let ran = TestRunner::new(config).run(&strategy, |(sayable, changes)| {
            let mut gateway = sayable;
            changes.iter().for_each(|(which, number)| RULE_CHANGES[*which](&mut gateway, *number));
            match write_rules(*filter, &gateway, &remarks()) {
                Ok(tree) => {
                    written.set(written.get() + 1);
                    let found = filter.read(&tree);
                    prop_assert!(found.findings.is_empty(), "{:#?}", found.findings);
                    prop_assert_eq!((&found.nat, &found.filter), (&gateway.nat, &gateway.filter));
                    prop_assert_eq!(&found.segment_limits, &gateway.segment_limits);
                }
                Err(why) => {
                    refused.set(refused.get() + 1);
                    prop_assert!(!changes.is_empty(), "it can say that: {why:?}");
                    prop_assert!(speaks(&why), "{why:?}");
                }
            }
            Ok(())
        });
        ran.unwrap_or_else(|error| panic!("{}: {error}", filter.word()));
        eprintln!("{}: {} gateways written, {} refused", filter.word(), written.get(), refused.get());
        // One in fifty: chance alone does not leave a half out, with few cases either.
        assert!(written.get() * 50 > cases() && refused.get() * 50 > cases(), "both halves are tried");
    }
}
