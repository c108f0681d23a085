//! What each step costs for one tunnel, and what it costs to understand many.

#[path = "../crates/core/tests/common/known.rs"]
mod known;

use std::collections::BTreeMap;

use divan::{Bencher, black_box};
use uspan_core::{
    Actor, Builder, Description, End, OwnEnd, ReadGateway, Secret, SecretFile, Source, Supplied, agree, check, cross_check, rehearse,
    verify,
};

fn main() {
    divan::main();
}

/// The same fleets as bench/fleet.py.
fn fleet(pairs: usize) -> (String, String) {
    let description = "unified-span = 1\n\n[inventory.orchards]\nfile = \"orchards.csv\"\n\
         all = { gateway = { outside = \"wan0\", inside = \"lan0\" }, shares-internet = true }\n\n\
         [group.harvest]\nshape = \"listed\"\nmembers = [\"orchards\"]\nmaster = \"m\"\npolicy = { strength = \"strong\" }\n";
    let mut rows = String::from("name,platform,gateway.address,networks,peers\n");
    for number in 0..pairs {
        for (name, platform, at, peer) in [
            ("packhouse", "strongswan", 2 * number, format!("coldstore-{number}")),
            ("coldstore", "libreswan", 2 * number + 1, String::new()),
        ] {
            let (high, low) = (at >> 16, at & 0xffff);
            rows.push_str(&format!("{name}-{number},{platform},2001:db8:{high:x}:{low:x}::1,fd41:0:{high:x}:{low:x}::/64,{peer}\n"));
        }
    }
    (description.to_owned(), rows)
}

fn understood(pairs: usize) -> Description {
    let (text, rows) = fleet(pairs);
    let (description, findings) = Description::parse_with(&Source::new("f", text), known::context(), &mut |_| Ok(rows.clone()));
    assert!(findings.is_empty(), "{findings:#?}");
    description
}

fn supplied() -> Supplied {
    let secret = Secret::new(b"a-master-secret-that-is-made-up-0123456789".to_vec());
    let file = SecretFile::Read { secret, guesses_log10: 40.0, drawn: true, exposed: false };
    Supplied { secrets: BTreeMap::from([("m".to_owned(), file)]), ..Supplied::default() }
}

#[divan::bench(args = [100, 1000, 10_000])]
fn decode(bencher: Bencher<'_, '_>, pairs: usize) {
    let (text, rows) = fleet(pairs);
    bencher.bench(|| Description::parse_with(&Source::new("f", text.as_str()), known::context(), &mut |_| Ok(rows.clone())));
}

#[divan::bench(args = [100, 1000, 10_000])]
fn check_all(bencher: Bencher<'_, '_>, pairs: usize) {
    let (description, supplied) = (understood(pairs), supplied());
    bencher.bench(|| check(&description, &supplied));
}

#[divan::bench]
fn agree_on_one(bencher: Bencher<'_, '_>) {
    let description = understood(1);
    bencher.bench(|| agree(black_box(&description), &description.tunnels[0]));
}

#[divan::bench]
fn one_tunnel_the_whole_way(bencher: Bencher<'_, '_>) {
    let (description, supplied) = (understood(1), supplied());
    let builder = Builder::new(&description, &supplied);
    bencher.bench(|| builder.tunnel(&description.tunnels[0], true));
}

#[divan::bench(args = [0, 1])]
fn read_back_one_end(bencher: Bencher<'_, '_>, end: usize) {
    let (description, supplied) = (understood(1), supplied());
    let made = Builder::new(&description, &supplied).tunnel(&description.tunnels[0], true).expect("built");
    let (_, trees) = made.built.expect("built");
    let site = description.ends(&description.tunnels[0])[end];
    bencher.bench(|| verify(&site.platform.value, site.packet_filter, black_box(&trees[end])));
}

#[divan::bench]
fn hold_both_ends(bencher: Bencher<'_, '_>) {
    let (description, supplied) = (understood(1), supplied());
    let made = Builder::new(&description, &supplied).tunnel(&description.tunnels[0], true).expect("built");
    let (built, _) = made.built.expect("built");
    let ends = description.ends(&description.tunnels[0]);
    let end = |i: usize| End {
        name: &ends[i].name.value,
        gateway: &built.gateways[i],
        own: ends[i].local(),
        reached: ends[i].reached(),
        shares_internet: true,
        is_ours: true,
    };
    bencher.bench(|| cross_check(end(0), end(1)));
}

#[divan::bench]
fn rehearse_one(bencher: Bencher<'_, '_>) {
    let (description, supplied) = (understood(1), supplied());
    let made = Builder::new(&description, &supplied).tunnel(&description.tunnels[0], true).expect("built");
    let (built, _) = made.built.expect("built");
    let ends = description.ends(&description.tunnels[0]);
    let actor = |i: usize| {
        let facts = known::platform(&ends[i].platform.value.word);
        let reading = ReadGateway {
            name: &ends[i].name.value,
            gateway: &built.gateways[i],
            ends_open: facts.own_end == OwnEnd::ByAddress,
            tree: None,
        };
        Actor { reading, behaviour: &facts.behaviour, stands: ends[i].stands() }
    };
    bencher.bench(|| rehearse([actor(0), actor(1)], None));
}
