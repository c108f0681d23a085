//! `uspan platforms`.

use serde_json::json;
use uspan_core::algorithm::{Kind, Transform};
use uspan_core::{
    Dscp, Encapsulation, IkeVersion, Interrupts, Liveness, Method, OpeningWay, PfsChoice, PrfChoice, Profile, ReplayWindow, RoutesBy, Sa,
    SeveralPairs, duration_words,
};

use crate::args::Format;
use crate::failure::{CommandOutcome, Failure};
use crate::files::input;
use crate::show::table::table;
use crate::show::{HEADING, columns, styled, wrapped};

pub fn run(format: Format) -> Result<CommandOutcome, Failure> {
    let context = input::context();
    let all: Vec<&Profile> = context.of_ours().map(|profile| &**profile).collect();
    if format == Format::Json {
        super::print_json(&all.iter().map(|facts| value(facts)).collect::<Vec<_>>())?;
        return Ok(CommandOutcome::Fine);
    }
    super::print_line(&styled(HEADING, "What each platform can do"))?;
    // Side by side where there is room, else one after the other.
    let share = if columns() >= LABEL + COLUMN * all.len() { all.len() } else { 1 };
    for facts in all.chunks(share) {
        let mut heads = vec![""];
        heads.extend(facts.iter().map(|facts| &*facts.word));
        super::print_line(&format!("{}\n", table(&heads, rows(facts), &[0])))?;
    }
    let filters: Vec<_> = context.filters.iter().map(|filter| filter.title()).collect();
    let closing =
        format!("Packet filter beside each of them: {}. Weak algorithms are not listed; see uspan algorithms.", filters.join(" or "));
    super::print_line(&wrapped(&closing, columns()).join("\n"))?;
    Ok(CommandOutcome::Fine)
}

/// Width of the names of facts, and the least for each platform's column.
const LABEL: usize = 18;
const COLUMN: usize = 30;

/// A row for each fact.
fn rows(all: &[&Profile]) -> Vec<Vec<String>> {
    let row = |name: &str, cell: &dyn Fn(&Profile) -> String| {
        let mut row = vec![name.to_owned()];
        row.extend(all.iter().map(|facts| cell(facts)));
        row
    };
    let mut rows = vec![
        row("version", &|f| f.title.to_string()),
        row("key exchange", &versions),
        row("ciphers for IKE", &|f| names(f, Kind::Encryption, Sa::Ike)),
        row("ciphers for ESP", &|f| names(f, Kind::Encryption, Sa::Esp)),
        row("integrity for IKE", &|f| names(f, Kind::Integrity, Sa::Ike)),
        row("integrity for ESP", &|f| names(f, Kind::Integrity, Sa::Esp)),
        row("PRF", &|f| names(f, Kind::Prf, Sa::Ike)),
        row("groups", &|f| names(f, Kind::KeyExchange, Sa::Ike)),
        row("PRF by itself", &|f| if f.prf == PrfChoice::OfIntegrity { "no: follows the integrity algorithm" } else { "yes" }.to_owned()),
        row("PFS groups", &|f| match f.pfs {
            PfsChoice::OfIke => "that of the IKE SA".to_owned(),
            PfsChoice::OneForAll => "one for all ESP proposals".to_owned(),
            PfsChoice::Each => "one for each ESP proposal".to_owned(),
        }),
        row("several pairs", &|f| match [SeveralPairs::AnSaEach, SeveralPairs::InOneSa].map(|way| f.selectors.contains(&way)) {
            [true, true] => "a Child SA each, or all in one".to_owned(),
            [true, false] => "a Child SA each".to_owned(),
            [false, _] => "all in one Child SA".to_owned(),
        }),
        row("opens", &|f| {
            let ways = [(true, "at once"), (f.opens(OpeningWay::OnTraffic), "on traffic"), (f.opens(OpeningWay::ByHand), "by hand")];
            ways.iter().filter(|(can, _)| *can).map(|(_, way)| *way).collect::<Vec<_>>().join(", ")
        }),
        row("identities", &|f| if f.identities.free { "address, name, mail, free" } else { "address, name, mail" }.to_owned()),
        row("authentication", &|f| words(&f.methods, Method::words)),
        row("also in IKEv1", &|f| match f.methods_v1.value {
            [] => "none".to_owned(),
            some => words(some, Method::words),
        }),
        row("liveness", &|f| match f.liveness {
            Liveness::OfConnection => "for each tunnel".to_owned(),
            Liveness::OfDaemon => "one for all tunnels".to_owned(),
        }),
        row("replay window", &|f| match f.replay_window {
            ReplayWindow::Settable => "for each tunnel".to_owned(),
            ReplayWindow::Fixed(packets) => format!("{packets} packets"),
        }),
        row("sequence numbers", &|f| if f.has_long_sequence_numbers() { "32 or 64 bits" } else { "32 bits" }.to_owned()),
        row("DSCP", &|f| {
            words(&f.dscp, |dscp| match dscp {
                Dscp::Outwards => "copied outwards",
                Dscp::Both => "both ways",
                Dscp::Never => "hidden from the path",
            })
        }),
        row("ESP in UDP", &|f| {
            words(&f.encapsulations, |encapsulation| match encapsulation {
                Encapsulation::Automatic => "automatic",
                Encapsulation::Forced => "forced",
                Encapsulation::Off => "off",
            })
        }),
        row("styles", &|f| if f.is_steered_by_routes() { "policy-based, route-based" } else { "policy-based" }.to_owned()),
        row("changed files", &|f| {
            match *f.take_up_interrupts {
                Interrupts::Nothing => "SAs go on until opened anew",
                Interrupts::WhereItOpens => "where it opens the tunnel, SAs end; else they go on",
                Interrupts::ItsTunnels => "taking them up ends the SAs",
            }
            .to_owned()
        }),
        row("longest lifetime", &|f| duration_words(f.longest_lifetime)),
        row("routes", &|f| if f.routes == RoutesBy::Daemon { "the daemon sets them" } else { "written" }.to_owned()),
        row("files", &|f| f.files.to_string()),
        row("packages", &|f| f.packages.to_string()),
        row("facts from", &|f| f.source.to_string()),
    ];
    rows.push(row("left out means", &|f| f.defaults.iter().map(|(what, value)| format!("{what}: {value}")).collect::<Vec<_>>().join("\n")));
    rows
}

fn words<T: Copy>(list: &[T], word: impl Fn(T) -> &'static str) -> String {
    list.iter().map(|item| word(*item)).collect::<Vec<_>>().join(", ")
}

fn versions(facts: &Profile) -> String {
    words(&facts.versions, IkeVersion::words)
}

/// Names of a kind that a platform can do, without weak ones; key lengths drawn together.
fn names(facts: &Profile, kind: Kind, sa: Sa) -> String {
    let mut families: Vec<(String, Vec<String>)> = Vec::new();
    for row in kind.rows().iter().filter(|row| row.weak.is_empty()) {
        if !facts.can(Transform::of(row), sa) {
            continue;
        }
        let bits = row.key_bits.to_string();
        let family = if row.key_bits == 0 { row.name.to_owned() } else { row.name.replace(&bits, "*") };
        match families.last_mut().filter(|(name, _)| *name == family) {
            Some((_, lengths)) => lengths.push(bits),
            None => families.push((family, if row.key_bits == 0 { Vec::new() } else { vec![bits] })),
        }
    }
    let words = families.into_iter().map(|(family, lengths)| family.replace('*', &lengths.join("/")));
    words.collect::<Vec<_>>().join(", ")
}

fn value(facts: &Profile) -> serde_json::Value {
    let list = |kind: Kind, sa: Sa| -> Vec<&str> {
        let rows = kind.rows().iter().filter(|row| !row.name.is_empty() && facts.can(Transform::of(row), sa));
        rows.map(|row| row.name).collect()
    };
    json!({
        "name": facts.word,
        "title": facts.title,
        "version": facts.release,
        "key_exchange": versions(facts),
        "ike": { "encryption": list(Kind::Encryption, Sa::Ike), "integrity": list(Kind::Integrity, Sa::Ike), "prf": list(Kind::Prf, Sa::Ike), "group": list(Kind::KeyExchange, Sa::Ike) },
        "esp": { "encryption": list(Kind::Encryption, Sa::Esp), "integrity": list(Kind::Integrity, Sa::Esp), "group": list(Kind::KeyExchange, Sa::Esp) },
        "prf_follows_integrity": facts.prf == PrfChoice::OfIntegrity,
        "one_pfs_group": facts.pfs != PfsChoice::Each,
        "pfs_group_of_ike": facts.pfs == PfsChoice::OfIke,
        "several_pairs_in_one_sa": facts.selectors.contains(&SeveralPairs::InOneSa),
        "several_child_sas": facts.selectors.contains(&SeveralPairs::AnSaEach),
        "opens_on_traffic": facts.opens(OpeningWay::OnTraffic),
        "opens_by_hand": facts.opens(OpeningWay::ByHand),
        "free_identities": facts.identities.free,
        "liveness_for_each_tunnel": facts.liveness == Liveness::OfConnection,
        "public_keys": facts.methods.contains(&Method::PublicKey),
        "certificates": facts.methods.contains(&Method::Certificate),
        "extended_sequence_numbers": facts.has_long_sequence_numbers(),
        "route_based": facts.is_steered_by_routes(),
        "take_up_ends_sas": match *facts.take_up_interrupts {
            Interrupts::Nothing => "no",
            Interrupts::WhereItOpens => "where-it-opens",
            Interrupts::ItsTunnels => "yes",
        },
        "longest_lifetime_s": facts.longest_lifetime.as_secs(),
        "installs_routes": facts.routes == RoutesBy::Daemon,
        "files": facts.files,
        "packages": facts.packages,
        "source": facts.source,
        "defaults": facts.defaults.iter().map(|(what, value)| json!({ "what": what, "value": value })).collect::<Vec<_>>(),
    })
}
