//! `uspan walk`.

use std::collections::BTreeMap;
use std::net::IpAddr;

use serde_json::{Value, json};
use uspan_core::{Description, Flow, UncarriedPair, Walk, Walker, service, uncarried, walk};

use super::parts::{self, Participant};
use crate::args::{Format, WalkArgs};
use crate::failure::{CommandOutcome, Failure};
use crate::files::input;
use crate::show::{CARE, GOOD, STOP, ShownEnds, findings, path, styled};

pub fn run(args: &WalkArgs) -> Result<CommandOutcome, Failure> {
    let known = service(&args.service).and_then(|list| list.into_iter().next());
    let traffic = known.ok_or_else(|| {
        Failure::Usage(format!("`{}` is no service; write a name such as `https`, or a protocol and a port, `tcp/443`", args.service))
    })?;
    if args.from.is_ipv4() != args.to.is_ipv4() {
        return Err(Failure::Usage("--from and --to are of different families".to_owned()));
    }
    let flow = Flow { from: args.from, to: args.to, traffic };
    let (pairs, about) = match parts::meant(&args.ends, None)? {
        Ok(meant) => meant,
        Err((input, found)) => return super::stopped(&found, &input.source, args.format, empty(args), "Nothing was followed"),
    };
    let inside = inside(&args.inside, &pairs)?;
    let walked = |parts: &[Participant; 2]| walk(walkers(parts, &inside), &flow);
    let each = pairs.iter().filter_map(|parts| Some((parts, walked(parts)?)));
    // Of several pairs of gateways, the one that has the source nearest; of those, the one that comes farthest.
    let first = each.max_by_key(|(_, walked)| (walked.behind, walked.works(), walked.there.hops.len()));
    let Some(first) = first else {
        if let Some(told) = not_carried(args)? {
            return Ok(told);
        }
        let none = format!("no gateway is {} or has it behind it: no tunnel of theirs is for that address", args.from);
        return Err(Failure::Usage(none));
    };
    let mut ways = vec![first];
    while let Some((parts, last)) = ways.last().filter(|(_, last)| last.there.arrives() && last.there.onward && ways.len() < LONGEST) {
        let (came, hub) = (&parts[last.near].name, &parts[1 - last.near].name);
        let others = pairs.iter().filter(|other| other.iter().any(|part| part.name == *hub) && other.iter().all(|part| part.name != *came));
        let onward = others.filter_map(|parts| Some((parts, walked(parts)?))).filter(|(parts, walked)| parts[walked.near].name == *hub);
        let Some(next) = onward.max_by_key(|(_, walked)| (walked.works(), walked.there.hops.len())) else { break };
        ways.push(next);
    }
    let fine = ways.iter().all(|(_, walked)| walked.works() && walked.is_sure()) && ways.last().is_some_and(|(_, last)| !last.there.onward);
    let unsure = parts::unsure(ways.iter().flat_map(|(parts, _)| *parts)).filter(|_| fine);
    let fine = fine && unsure.is_none();
    let hidden = ways.last().and_then(|(parts, walked)| parts::hidden(parts, walked));
    let parts: Vec<_> = ways.iter().map(|(parts, _)| *parts).collect();
    let ways: Vec<_> = ways.into_iter().map(|(parts, walked)| (walked, parts::shown(parts))).collect();
    if args.format == Format::Json {
        let (there, back) = path::json(&ways);
        let parts::Told { found, sources } = about.with(parts.iter().copied().flatten());
        super::print_json(&json!({
            "from": args.from,
            "to": args.to,
            "service": args.service,
            "fine": fine,
            "there": there,
            "back": back,
            "findings": findings::json_among(&found, &sources),
        }))?;
    } else {
        parts.iter().for_each(|parts| parts::print_findings(parts));
        super::print_line(&path::text(&ways, &flow))?;
        super::print_line(
            &unsure.or(hidden.map(|name| not_known(&name))).unwrap_or_else(|| closing(&ways, &parts::provided(pairs.iter().flatten()))),
        )?;
    }
    Ok(if fine { CommandOutcome::Fine } else { CommandOutcome::Stopped })
}

/// What JSON says of a walk that was not made.
fn empty(args: &WalkArgs) -> Value {
    json!({ "from": args.from, "to": args.to, "service": args.service, "there": null, "back": null })
}

/// More tunnels than that nobody sends a packet through.
const LONGEST: usize = 4;

/// Inside addresses by gateway.
fn inside(given: &[String], pairs: &[[Participant; 2]]) -> Result<BTreeMap<String, Vec<IpAddr>>, Failure> {
    let mut inside: BTreeMap<String, Vec<IpAddr>> = BTreeMap::new();
    for text in given {
        let known = |name: &str| pairs.iter().flatten().any(|part| part.name == name);
        let parsed = text.split_once('=').and_then(|(name, address)| Some((name, address.parse().ok()?)));
        let (name, address) = parsed
            .filter(|(name, _)| known(name))
            .ok_or_else(|| Failure::Usage(format!("`{text}` is not NAME=ADDRESS, with the name of one of the gateways")))?;
        inside.entry(name.to_owned()).or_default().push(address);
    }
    Ok(inside)
}

fn walkers<'a>(parts: &'a [Participant; 2], inside: &'a BTreeMap<String, Vec<IpAddr>>) -> [Walker<'a>; 2] {
    parts.each_ref().map(|part| Walker {
        actor: part.actor(),
        inside: inside.get(&part.name).map(Vec::as_slice).unwrap_or_default(),
        shares_internet: part.shares_internet,
        networks: &part.networks,
    })
}

/// A source in a network of the description that no tunnel carries; nothing where there is none.
fn not_carried(args: &WalkArgs) -> Result<Option<CommandOutcome>, Failure> {
    if args.ends.second.is_some() {
        return Ok(None);
    }
    let read = input::read(&args.ends.first, &args.ends.supply)?;
    let mut networks = read.description.iter().flat_map(|description| &description.sites).flat_map(|site| {
        let own = site.own_networks().map(|network| (&network.name.value, network.prefix.value));
        own.map(|(name, net)| (&site.name.value, name, net)).collect::<Vec<_>>()
    });
    let Some((site, name, net)) = networks.find(|(.., net)| net.contains(&args.from)) else { return Ok(None) };
    let dropped = read.description.as_ref().is_some_and(|description| drops(description, site, args));
    if args.format == Format::Json {
        let mut told = empty(args);
        told["fine"] = json!(false);
        told["dropped"] = json!(dropped);
        told["findings"] = json!([]);
        super::print_json(&told)?;
    } else {
        super::print_line(&format!(
            "{}: {} is in {name} ({net}) of {site}, and no tunnel carries that. {} Next: name it in `carries`, if it is meant to be reached.",
            styled(STOP, "In the description, and not in the tunnel"),
            args.from,
            if dropped { "The filter of its gateway drops it." } else { "It goes where the gateway's other routes lead." }
        ))?;
    }
    Ok(Some(CommandOutcome::Stopped))
}

/// Whether a site's gateway drops what a tunnel of it does not carry.
fn drops(description: &Description, site: &str, args: &WalkArgs) -> bool {
    description.tunnels.iter().any(|tunnel| {
        let Some(end) = description.ends(tunnel).iter().position(|end| end.name.value == *site) else { return false };
        let from_and_to = |pair: &UncarriedPair| pair.prefixes[end].contains(&args.from) && pair.prefixes[1 - end].contains(&args.to);
        uncarried(description, tunnel).iter().any(|pair| pair.dropped[end] && from_and_to(pair))
    })
}

fn not_known(name: &str) -> String {
    format!(
        "{} whether it arrives: what {name} routes, translates and filters nobody here knows. Next: ask who runs it.",
        styled(STOP, "It cannot be said")
    )
}

fn closing(ways: &[(Walk, ShownEnds<'_>)], provided: &str) -> String {
    let works = ways.iter().all(|(walked, _)| walked.works());
    let back = ways.last().is_some_and(|(last, _)| last.back.is_some());
    match works {
        true if ways.last().is_some_and(|(last, _)| last.there.onward) => {
            format!(
                "{}. Next: walk on from there, to the gateway that has it behind it.",
                styled(CARE, "It is passed on into another tunnel")
            )
        }
        true if !ways.iter().all(|(walked, _)| walked.is_sure()) => format!(
            "{}. Next: list what decides it, such as `ip address` for names of interfaces, and walk again.",
            styled(CARE, "It arrives only if a rule marked ? lets it")
        ),
        true if !provided.is_empty() => {
            format!(
                "{}{provided}, and lets it through: what it filters nobody here knows.",
                styled(CARE, "It arrives, and the answer comes back")
            )
        }
        true => format!("{}. It arrives, and the answer comes back.", styled(GOOD, "Fine")),
        false if back => {
            format!("{}. Next: mend the hop above, and walk again.", styled(STOP, "It arrives, and the answer does not come back"))
        }
        false => format!("{}. Next: mend the hop above, and walk again.", styled(STOP, "It does not arrive")),
    }
}
