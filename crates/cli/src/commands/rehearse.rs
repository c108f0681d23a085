//! `uspan rehearse`.

use std::collections::BTreeSet;

use serde_json::json;
use uspan_core::{Rehearsal, RehearsalVerdict, Rehearsals, rehearse};

use super::check::is_changed;
use super::many;
use super::parts::{self, Participant};
use crate::args::{Format, Rehearse};
use crate::failure::{CommandOutcome, Failure};
use crate::files::input;
use crate::files::output::Earlier;
use crate::files::{reading, single};
use crate::fleet;
use crate::show::{GOOD, STOP, findings, ladder, ladder_svg, path_shown, styled};

/// Two gateways, and what came of it.
struct Act {
    parts: [Participant; 2],
    came: Rehearsals,
}

pub fn run(args: &Rehearse) -> Result<CommandOutcome, Failure> {
    if args.ends.second.is_none() && args.tunnel.is_none() && args.ends.first.is_file() {
        let read = input::read(&args.ends.first, &args.ends.supply)?;
        if read.description.as_ref().is_some_and(fleet::is_fleet) {
            return many::rehearsed(read, args.ends.built.as_deref(), args.changed_since.as_deref(), args.format);
        }
    }
    let (pairs, about) = match parts::meant(&args.ends, args.tunnel.as_deref())? {
        Ok(meant) => meant,
        Err((input, found)) => return super::stopped(&found, &input.source, args.format, many::no_rehearsals(), "Nothing was rehearsed"),
    };
    let described = args.ends.second.is_none();
    let mut acts = Vec::new();
    for parts in pairs {
        let names = [parts[0].name.as_str(), parts[1].name.as_str()];
        // In a description others may have nothing to do with who is to open.
        if described && args.from.as_deref().is_some_and(|from| !names.contains(&from)) {
            continue;
        }
        let opener = opener(args.from.as_deref(), names)?;
        let mut came = rehearse(parts.each_ref().map(Participant::actor), opener);
        if described {
            // What belongs to other pairs of sites is rehearsed there.
            came.alone = Default::default();
        }
        acts.push(Act { parts, came });
    }
    let mut kept = 0;
    if let Some(folder) = &args.changed_since {
        let (earlier, read) = (Earlier::of(folder)?, input::read(&args.ends.first, &args.ends.supply)?);
        let before: usize = acts.iter().map(|act| act.came.all.len()).sum();
        for act in &mut acts {
            act.came.all.retain(|rehearsal| rehearsal.names.iter().any(|name| is_changed(&read, name, &earlier)));
        }
        let left: usize = acts.iter().map(|act| act.came.all.len()).sum();
        kept = before - left;
        if left == 0 && before > 0 {
            return unchanged(before, args.format);
        }
    }
    if let Some(name) = &args.tunnel {
        for act in &mut acts {
            act.came.all.retain(|rehearsal| rehearsal.names.contains(name));
            act.came.alone = Default::default();
        }
    }
    let all: Vec<(&Act, &Rehearsal)> = acts.iter().flat_map(|act| act.came.all.iter().map(move |one| (act, one))).collect();
    if all.is_empty() {
        let which = args.tunnel.as_ref().map_or_else(String::new, |name| format!(" of the name `{name}`"));
        return Err(Failure::Usage(format!("no two connections{which} belong together in `{}`", path_shown(&args.ends.first))));
    }
    if let Some(path) = &args.svg {
        let [(act, rehearsal)] = all.as_slice() else {
            return Err(Failure::Usage(format!("--svg draws one tunnel, and there are {}; say which with --tunnel", all.len())));
        };
        // A picture may take the place of a picture, and of nothing else.
        let picture = reading::bytes(path, reading::TABLE).is_ok_and(|(bytes, _)| bytes.starts_with(b"<svg"));
        if path.exists() && !picture {
            return Err(Failure::Usage(format!("`{}` is there and is no picture; choose another name", path_shown(path))));
        }
        single::text(path, &ladder_svg::draw(rehearsal, &parts::shown(&act.parts)), picture)?;
    }
    told(&acts, &all, about, kept, args.format)
}

/// Prints what came of it.
fn told(acts: &[Act], all: &[(&Act, &Rehearsal)], about: parts::Told, unchanged: usize, format: Format) -> Result<CommandOutcome, Failure> {
    let unsure = parts::unsure(acts.iter().flat_map(|act| &act.parts));
    let of = |verdict: RehearsalVerdict| all.iter().filter(|(_, rehearsal)| rehearsal.verdict() == verdict).count();
    let (failing, doubtful) = (of(RehearsalVerdict::Fails), of(RehearsalVerdict::Unknown));
    if format == Format::Json {
        let each: Vec<_> = all.iter().map(|(act, rehearsal)| ladder::json(rehearsal, &parts::shown(&act.parts))).collect();
        let alone: BTreeSet<_> = acts.iter().flat_map(|act| act.came.alone.iter().flatten()).collect();
        let parts::Told { found, sources } = about.with(acts.iter().flat_map(|act| &act.parts));
        super::print_json(&json!({
            "rehearsals": each,
            "alone": alone,
            "count": all.len(),
            "unchanged": unchanged,
            "findings": findings::json_among(&found, &sources),
            "fine": failing == 0 && doubtful == 0 && unsure.is_none(),
        }))?;
    } else {
        acts.iter().for_each(|act| parts::print_findings(&act.parts));
        // Of a few, those that work are a line each; of more, some that do not are shown.
        let is_few = all.len() <= fleet::FEW;
        let shown = all.iter().filter(|(_, rehearsal)| is_few || !rehearsal.works());
        for (act, rehearsal) in shown.take(if is_few { fleet::FEW } else { many::SHOWN }) {
            let text = if all.len() > 1 && rehearsal.works() {
                ladder::line(rehearsal, &parts::shown(&act.parts))
            } else {
                format!("{}\n", ladder::text(rehearsal, &parts::shown(&act.parts)))
            };
            super::print_line(&text)?;
        }
        if !is_few && failing > many::SHOWN {
            super::print_line(&format!("and {} more; --format json lists all\n", failing - many::SHOWN))?;
        }
        for (part, list) in acts.iter().flat_map(|act| act.parts.iter().zip(&act.came.alone)).filter(|(_, list)| !list.is_empty()) {
            super::print_line(&format!("{}: without a counterpart: {}\n", part.name, list.join(", ")))?;
        }
        let closing = || match (failing, doubtful) {
            (0, 1..) => cannot_say(all.len(), doubtful),
            _ => closing(all.len(), failing, all[0].1, &parts::provided(acts.iter().flat_map(|act| &act.parts))),
        };
        super::print_line(&unsure.clone().filter(|_| failing == 0).unwrap_or_else(closing))?;
    }
    Ok(if failing > 0 || doubtful > 0 || unsure.is_some() { CommandOutcome::Stopped } else { CommandOutcome::Fine })
}

fn cannot_say(all: usize, doubtful: usize) -> String {
    let of = if all == 1 { String::new() } else { format!(" of {doubtful} of {all}") };
    format!("{} whether the tunnel comes up{of}. Next: see to the lines that are not understood.", styled(STOP, "It cannot be said"))
}

fn closing(all: usize, failing: usize, first: &Rehearsal, provided: &str) -> String {
    match (all, failing) {
        (1, 0) => format!("{}. The tunnel comes up and gets new keys{provided}.", styled(GOOD, "Fine")),
        (all, 0) => format!("{}. All {all} tunnels come up and get new keys{provided}.", styled(GOOD, "Fine")),
        (1, _) if first.failures.is_empty() => {
            format!("{} than one of the two ends says. Next: write the same networks at both.", styled(STOP, "It carries something else"))
        }
        (1, _) => format!("{}. Next: change one of the lines above, and rehearse again.", styled(STOP, "It fails")),
        (all, failing) => format!("{}. Next: mend the first, and rehearse again.", styled(STOP, &format!("{failing} of {all} fail"))),
    }
}

/// Nothing is to be rehearsed.
fn unchanged(count: usize, format: Format) -> Result<CommandOutcome, Failure> {
    match format {
        Format::Json => {
            let mut nothing = many::no_rehearsals();
            nothing["unchanged"] = count.into();
            super::print_json(&super::ended(nothing, true, json!([])))?;
        }
        Format::Text => super::print_line(&many::unchanged(count))?,
    }
    Ok(CommandOutcome::Fine)
}

/// The end that is to open.
fn opener(from: Option<&str>, names: [&str; 2]) -> Result<Option<usize>, Failure> {
    let Some(from) = from else { return Ok(None) };
    match names.iter().position(|name| *name == from) {
        Some(end) => Ok(Some(end)),
        None => Err(Failure::Usage(format!("--from takes {} or {}", names[0], names[1]))),
    }
}
