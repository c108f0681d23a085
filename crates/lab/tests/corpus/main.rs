//! Files that nobody of this project wrote: the suites of the daemons, from their source packages. What the suites say of each pair of
//! gateways is held against what is read, rehearsed and compared here.
//!
//! Needs the network or the cache of an earlier run: what cannot be had is said, and a failure with `./test --corpus`.

#[path = "../../../core/tests/common/known.rs"]
mod known;

mod authority;
mod iked;
mod pluto;
mod rebuilt;
mod scenario;
mod sources;
mod swan;

use std::collections::{BTreeMap, HashMap};
use std::fmt::Write as _;

use known::{actor, context, platform, read_as};
use rebuilt::{Rebuilt, rebuilt};
use scenario::{Outcome, Scenario};
use uspan_core::{
    Actor, ComparedPair, Finding, Gateway, Gravity, IkeVersion, OwnEnd, Parameter, ReadGateway, Rehearsal, RehearsalVerdict, Severity,
    Tree, compare_ends, covered, rehearse,
};

/// The suite is of 7.4. That 7.2 does otherwise was seen in the lab.
const NEWER: &str = "without `dstid` 7.2 takes nobody's certificate";

/// The suite is of 5.2. That 4.10 does otherwise was seen in the lab.
const ANY: &str = "with `rightid=%any` 4.10 asks for the address of a peer that has one";

/// Pairs of which the suite says something that does not follow from their files in the release that they are read for.
const EXCEPTIONS: &[(&str, &str)] = &[
    ("libreswan-5.2/basic-pluto-15-no-retransmit", "the end that answers is not started"),
    ("libreswan-5.2/ikev1-x509-16-mismatch-ignore", ANY),
    ("libreswan-5.2/ikev2-x509-30-mismatch-ignore", ANY),
    ("openiked-7.4/run-cert-single-ca", NEWER),
    ("openiked-7.4/run-cert-single-ca-asn1dn", NEWER),
    ("openiked-7.4/run-cert-no-ca", NEWER),
    ("openiked-7.4/run-srcid-multi", NEWER),
    ("openiked-7.4/run-cert-multi-ca", NEWER),
    ("openiked-7.4/run-cert-second-altname", NEWER),
    ("openiked-7.4/run-fragmentation", NEWER),
    ("openiked-7.4/run-transport", NEWER),
];

const NARROWED: &str =
    "one end has two hosts in two Child SAs, the other one SA for their whole network: what it sends to others finds none";

/// Pairs that come up, of which comparing them calls something fatal, rightly.
const FATAL: &[(&str, &str)] =
    &[("strongswan-5.9.8/route-based/net2net-xfrmi-ike", NARROWED), ("strongswan-6.0.1/route-based/net2net-xfrmi-ike", NARROWED)];

/// What the program says.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Said {
    Up(Option<String>),
    Fails(String),
    CannotSay(String),
}

struct Judged<'a> {
    scenario: &'a Scenario,
    said: Said,
    blamed: Vec<String>,
    /// What comparing the two calls fatal.
    fatal: Vec<String>,
    /// What becomes of it when it is adopted, where it comes up.
    rebuilt: Option<Rebuilt>,
}

fn shown(tree: &Tree, finding: &Finding) -> String {
    let line = finding.place.as_ref().and_then(|place| {
        let text = &tree.files.get(&*place.file)?.text;
        let number = text[..place.span.start].matches('\n').count();
        Some(format!("{}:{}: {}", place.file, number + 1, text.lines().nth(number)?.trim()))
    });
    format!("{} {} [{}]", finding.rule.code, finding.message, line.unwrap_or_default())
}

fn judge(scenario: &Scenario) -> Judged<'_> {
    let read: Vec<(Gateway, Vec<Finding>)> = (0..2).map(|end| read_as(platform(scenario.platforms[end]), &scenario.trees[end])).collect();
    let trees: Vec<Tree> = scenario.trees.iter().map(covered).collect();
    let mut blamed = Vec::new();
    for (end, (_, findings)) in read.iter().enumerate() {
        let wrong = findings.iter().filter(|finding| ["US801", "US803"].contains(&finding.rule.code));
        blamed.extend(wrong.map(|finding| format!("{}: {}", scenario.hosts[end], shown(&scenario.trees[end], finding))));
    }
    let actors: [Actor<'_>; 2] = [0, 1].map(|end| {
        let profile = platform(scenario.platforms[end]);
        let reading = ReadGateway {
            name: &scenario.hosts[end],
            gateway: &read[end].0,
            ends_open: profile.own_end == OwnEnd::ByAddress,
            tree: Some(&trees[end]),
        };
        actor(reading, profile)
    });
    let came = rehearse(actors, Some(0));
    let named = |rehearsal: &&Rehearsal| {
        let name = scenario.opened.as_deref();
        name.is_none_or(|name| {
            rehearsal.names.iter().any(|one| one == name) || rehearsal.opened.iter().any(|child| child.names.iter().any(|one| one == name))
        })
    };
    let errors = read.iter().flat_map(|(_, findings)| findings).filter(|finding| finding.rule.severity == Severity::Error).count();
    let said = match came.all.iter().find(named).or(came.all.first()) {
        None => Said::CannotSay("no two connections belong together".to_owned()),
        Some(rehearsal) => match rehearsal.verdict() {
            RehearsalVerdict::Fails => {
                // The suite tells of the Child SA that is opened first, whatever comes of others.
                match rehearsal.opened.first() {
                    Some(child) => Said::Up(Some(child.protection.clone())),
                    None => Said::Fails(rehearsal.failures.first().map_or_else(String::new, |failure| failure.reason.clone())),
                }
            }
            RehearsalVerdict::Unknown => {
                let doubt = &rehearsal.doubts[0];
                let spelling = doubt.spelling.clone().unwrap_or_default();
                Said::CannotSay(format!("{} at {}: {spelling}", doubt.about, scenario.hosts[doubt.end]))
            }
            RehearsalVerdict::Up if errors > 0 => Said::CannotSay(format!("{errors} errors in the files")),
            RehearsalVerdict::Up => Said::Up(rehearsal.opened.first().map(|child| child.protection.clone())),
        },
    };
    let whole: Vec<Gateway> = (0..2).map(|end| read_as(platform(scenario.platforms[end]), &scenario.whole[end]).0).collect();
    let of = |end: usize| Actor { reading: ReadGateway { gateway: &whole[end], tree: None, ..actors[end].reading }, ..actors[end] };
    let compared = compare_ends(of(0), of(1));
    let meant = |pair: &&ComparedPair| {
        let mut children = whole[0].connections.iter().filter(|one| one.name == pair.names[0]).flat_map(|one| &one.children);
        scenario.opened.as_ref().is_none_or(|name| pair.names[0] == *name || children.any(|child| child.name == *name))
    };
    let meant_v2 = whole[0].connections.iter().all(|one| one.version() == IkeVersion::V2);
    let names_child = whole[0].connections.iter().flat_map(|one| &one.children).any(|child| Some(&child.name) == scenario.opened.as_ref());
    let rows = compared
        .pairs
        .iter()
        .filter(meant)
        .flat_map(|pair| &pair.parameters)
        .filter(|row| row.gravity == Gravity::Fatal)
        // The suite tells of the Child SA that is opened first, whatever comes of others.
        .filter(|row| row.child.is_none() || row.child == scenario.opened || !names_child)
        // The suite does not wait for new keys; the first Child SA of IKEv2 comes without a group of its own.
        .filter(|row| !(row.practice.contains("until its first rekey") || row.parameter == Parameter::Pfs && meant_v2));
    let fatal =
        rows.map(|row| format!("fatal {}: {} / {}: {}", row.name, row.values[0].value, row.values[1].value, row.practice)).collect();
    let adopted = came.all.iter().find(named).or(came.all.first()).filter(|_| matches!(said, Said::Up(_)));
    let rebuilt = adopted.map(|before| {
        let names = [0, 1].map(|end| scenario.hosts[end].as_str());
        rebuilt(names, [&read[0].0, &read[1].0], [0, 1].map(|end| platform(scenario.platforms[end])), before)
    });
    Judged { scenario, said, blamed, fatal, rebuilt }
}

/// Whether what is said is what the suite says.
fn agrees(judged: &Judged<'_>) -> Option<bool> {
    match (judged.scenario.outcome, &judged.said) {
        (Outcome::Untold, _) | (_, Said::CannotSay(_)) => None,
        (Outcome::Up, Said::Up(protection)) => {
            let both = judged.scenario.protection.as_ref().zip(protection.as_ref());
            Some(both.is_none_or(|(one, other)| one == other))
        }
        (Outcome::Down, Said::Fails(_)) => Some(true),
        _ => Some(false),
    }
}

/// The scenarios of all suites that can be had, and how many suites cannot. What the suites of two releases have alike is judged once.
fn all_scenarios() -> (Vec<Scenario>, usize) {
    let (mut all, mut missing): (Vec<Scenario>, usize) = (Vec::new(), 0);
    for package in &sources::PACKAGES {
        let folder = match sources::folder(package) {
            Ok(folder) => folder,
            Err(why) => {
                missing += 1;
                println!("NOT TRIED: the suite of {} {}: {why}", package.name, package.version);
                continue;
            }
        };
        let found = match package.name {
            "strongswan" => swan::scenarios(&folder),
            "libreswan" => pluto::scenarios(&folder),
            _ => iked::scenarios(&folder),
        };
        let count = found.len();
        let known: HashMap<String, usize> = all.iter().enumerate().map(|(at, one)| (one.name.clone(), at)).collect();
        let is_known = |one: &Scenario| {
            let names = sources::PACKAGES.iter().filter(|other| other.name == package.name);
            names.filter_map(|other| known.get(&other.scenario(&one.name))).any(|at| all[*at].is_alike(one))
        };
        let new: Vec<Scenario> = found.into_iter().filter(|one| !is_known(one)).collect();
        println!("{} {}: {count} pairs, of which the other release has {} alike", package.name, package.version, count - new.len());
        all.extend(new.into_iter().map(|one| Scenario { name: package.scenario(&one.name), ..one }));
    }
    all.retain(|scenario| !EXCEPTIONS.iter().any(|(name, _)| scenario.name == *name));
    (all, missing)
}

// Long: a count for each thing that is said.
#[test]
#[ignore = "needs the source packages of the daemons, which it fetches"]
fn what_the_daemons_own_suites_say_is_what_is_said_here() {
    let _ = context();
    let (scenarios, missing) = all_scenarios();
    // `./test --corpus` must have them all.
    assert!(missing == 0 || std::env::var_os("USPAN_CORPUS").is_none(), "{missing} suites could not be had");
    if scenarios.is_empty() {
        return;
    }
    let judged: Vec<Judged<'_>> = scenarios.iter().map(judge).collect();
    let mut table: BTreeMap<(String, &str), usize> = BTreeMap::new();
    let mut told = String::new();
    for one in &judged {
        let mut count = |what: &'static str| *table.entry((one.scenario.suite(), what)).or_default() += 1;
        count("pairs");
        if !one.blamed.is_empty() {
            count("with a line that is blamed");
        }
        if one.scenario.outcome != Outcome::Untold {
            count("told by the suite");
            match (agrees(one), &one.said) {
                (None, _) => count("cannot say"),
                (Some(true), _) => count("agrees"),
                (Some(false), Said::Up(_)) if one.scenario.outcome == Outcome::Down => count("WRONG: up, and is not"),
                (Some(false), Said::Up(_)) => count("WRONG: another protection"),
                (Some(false), _) => count("WRONG: fails, and does not"),
            }
        }
        if one.scenario.outcome == Outcome::Up {
            count("up in the suite");
            if !one.fatal.is_empty() && !FATAL.iter().any(|(name, _)| one.scenario.name == *name) {
                count("up in the suite, and compared as fatal");
            }
        }
        match &one.rebuilt {
            None => {}
            Some(Rebuilt::Same) => count("adopted, and the same when built"),
            Some(Rebuilt::Stopped(_)) => count("not adopted, with the reason"),
            Some(Rebuilt::NeedsKeys) => count("adopted, and needs keys"),
            Some(Rebuilt::Unbuilt(_)) => count("adopted, and cannot be built"),
            Some(Rebuilt::Told(_)) => count("adopted, and another tunnel, which is told"),
            Some(Rebuilt::Lost(_)) => count("LOST: adopted, and another tunnel"),
        }
        if let Some(rebuilt @ (Rebuilt::Stopped(_) | Rebuilt::Unbuilt(_) | Rebuilt::Told(_) | Rebuilt::Lost(_))) = &one.rebuilt {
            let _ = writeln!(told, "{}: {rebuilt:?}", one.scenario.name);
        }
        let fatal = one.scenario.outcome == Outcome::Up && !one.fatal.is_empty();
        if agrees(one) != Some(true) || !one.blamed.is_empty() || fatal {
            let _ = writeln!(
                told,
                "{}: suite {:?} {:?}, here {:?}",
                one.scenario.name, one.scenario.outcome, one.scenario.protection, one.said
            );
            one.blamed.iter().for_each(|line| _ = writeln!(told, "    {line}"));
            if fatal {
                one.fatal.iter().for_each(|line| _ = writeln!(told, "    {line}"));
            }
        }
    }
    for ((suite, what), count) in &table {
        println!("{suite:<24} {count:>5} {what}");
    }
    for (name, why) in EXCEPTIONS {
        println!("not judged: {name}: {why}");
    }
    for (name, why) in FATAL {
        println!("fatal, rightly: {name}: {why}");
    }
    if let Some(path) = std::env::var_os("USPAN_CORPUS_REPORT") {
        std::fs::write(path, &told).expect("written");
    }
    // What it must come to. A part of the suites has few pairs of a kind, so that each of these counts them all.
    let sum = |what: &str| table.iter().filter(|((_, known), _)| *known == what).map(|(_, count)| count).sum::<usize>();
    let (pairs, agrees) = (sum("pairs"), sum("agrees"));
    let wrong = sum("WRONG: up, and is not") + sum("WRONG: another protection");
    let fails = sum("WRONG: fails, and does not");
    let (told_by, cannot) = (sum("told by the suite"), sum("cannot say"));
    assert!(cannot * 100 <= told_by * 12, "of {told_by} that the suite tells, {cannot} cannot be said:\n{told}");
    assert_eq!(sum("up in the suite, and compared as fatal"), 0, "compared as fatal, and up:\n{told}");
    let (same, lost) = (sum("adopted, and the same when built"), sum("LOST: adopted, and another tunnel"));
    let told_of = sum("adopted, and another tunnel, which is told");
    assert_eq!(lost, 0, "adopted as another tunnel, and nothing says so:\n{told}");
    assert!(told_of * 100 <= (same + told_of) * 3, "{told_of} of {} are another tunnel when they are built:\n{told}", same + told_of);
    assert_eq!(wrong, 0, "up, and is not, or otherwise:\n{told}");
    assert!(fails * 100 <= (agrees + fails) * 3, "{fails} of {} fail, and do not:\n{told}", agrees + fails);
    assert!(sum("with a line that is blamed") * 100 <= pairs, "of {pairs} pairs too many have a line that is blamed:\n{told}");
}
