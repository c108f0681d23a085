//! `uspan rehearse`.

use std::collections::BTreeSet;
use std::path::Path;

use serde_json::json;
use uspan_core::{Finding, Rehearsal, Rehearsals, any_stops, rehearse};

use super::check::plan;
use super::parts::{self, Part};
use crate::args::{Format, Rehearse};
use crate::failure::{Failure, Verdict};
use crate::files::input::Input;
use crate::files::{secret, trees};
use crate::show::ladder::{self, Shown};
use crate::show::{GOOD, STOP, findings, ladder_svg, styled};

/// Two gateways, and what came of it.
struct Act {
    parts: [Part; 2],
    came: Rehearsals,
}

pub fn run(args: &Rehearse) -> Result<Verdict, Failure> {
    let acts = match &args.right {
        Some(right) => vec![folders(args, right)?],
        None => match described(args)? {
            Ok(acts) => acts,
            Err((input, found)) => return super::stopped(&found, &input.source, args.format, "rehearsals", "Nothing was rehearsed"),
        },
    };
    let mut acts = acts;
    if let Some(name) = &args.tunnel {
        for act in &mut acts {
            act.came.all.retain(|rehearsal| rehearsal.names.contains(name));
            act.came.alone = Default::default();
        }
    }
    let all: Vec<(&Act, &Rehearsal)> = acts.iter().flat_map(|act| act.came.all.iter().map(move |one| (act, one))).collect();
    if all.is_empty() {
        let which = args.tunnel.as_ref().map_or_else(String::new, |name| format!(" of the name `{name}`"));
        return Err(Failure::Usage(format!("no two connections{which} belong together in `{}`", args.left.display())));
    }
    if let Some(path) = &args.svg {
        let [(act, rehearsal)] = all.as_slice() else {
            return Err(Failure::Usage(format!("--svg draws one tunnel, and there are {}; say which with --tunnel", all.len())));
        };
        // A picture may take the place of a picture, and of nothing else.
        let picture = std::fs::read(path).is_ok_and(|bytes| bytes.starts_with(b"<svg"));
        if path.exists() && !picture {
            return Err(Failure::Usage(format!("`{}` is there and is no picture; choose another name", path.display())));
        }
        secret::publish(path, &ladder_svg::draw(rehearsal, &shown(act)), picture)?;
    }
    let failing = all.iter().filter(|(_, rehearsal)| !rehearsal.works()).count();
    if args.format == Format::Json {
        let each: Vec<_> = all.iter().map(|(act, rehearsal)| ladder::json(rehearsal, &shown(act))).collect();
        let alone: BTreeSet<_> = acts.iter().flat_map(|act| act.came.alone.iter().flatten()).collect();
        super::print_json(&json!({ "fine": failing == 0, "rehearsals": each, "alone": alone }))?;
    } else {
        for act in &acts {
            for part in &act.parts {
                let sources = part.sources.values().map(|source| (source.name().to_string(), source.clone())).collect();
                findings::print_among(&part.findings, &sources);
            }
        }
        for (act, rehearsal) in &all {
            // Of many, those that work are a line each.
            let text = if all.len() > 1 && rehearsal.works() {
                ladder::line(rehearsal, &shown(act))
            } else {
                format!("{}\n", ladder::text(rehearsal, &shown(act)))
            };
            super::print_line(&text)?;
        }
        for (part, list) in acts.iter().flat_map(|act| act.parts.iter().zip(&act.came.alone)).filter(|(_, list)| !list.is_empty()) {
            super::print_line(&format!("{}: without a counterpart: {}\n", part.name, list.join(", ")))?;
        }
        super::print_line(&closing(all.len(), failing, all[0].1))?;
    }
    Ok(if failing > 0 { Verdict::Stopped } else { Verdict::Fine })
}

fn shown(act: &Act) -> Shown<'_> {
    Shown {
        names: [&act.parts[0].name, &act.parts[1].name],
        titles: [act.parts[0].facts.title, act.parts[1].facts.title],
        addresses: act.parts.each_ref().map(|part| part.stands.reached),
        files: [&act.parts[0].sources, &act.parts[1].sources],
    }
}

fn closing(all: usize, failing: usize, first: &Rehearsal) -> String {
    match (all, failing) {
        (1, 0) => format!("{}. The tunnel comes up and gets new keys.", styled(GOOD, "Fine")),
        (all, 0) => format!("{}. All {all} tunnels come up and get new keys.", styled(GOOD, "Fine")),
        (1, _) if first.failures.is_empty() => {
            format!("{} than one of the two ends says. Next: write the same networks at both.", styled(STOP, "It carries something else"))
        }
        (1, _) => format!("{}. Next: change one of the lines above, and rehearse again.", styled(STOP, "It fails")),
        (all, failing) => format!("{}. Next: mend the first, and rehearse again.", styled(STOP, &format!("{failing} of {all} fail"))),
    }
}

/// Two folders.
fn folders(args: &Rehearse, right: &Path) -> Result<Act, Failure> {
    let parts = parts::of_folders([&args.left, right], [args.left_platform.as_deref(), args.right_platform.as_deref()])?;
    let opener = opener(args, &[&parts[0].name, &parts[1].name])?;
    let came = rehearse([parts[0].actor(), parts[1].actor()], opener);
    Ok(Act { parts, came })
}

/// The end that is to open.
fn opener(args: &Rehearse, names: &[&str; 2]) -> Result<Option<usize>, Failure> {
    let Some(from) = &args.from else { return Ok(None) };
    match names.iter().position(|name| name == from) {
        Some(end) => Ok(Some(end)),
        None => Err(Failure::Usage(format!("--from takes {} or {}", names[0], names[1]))),
    }
}

type Stopped = (Input, Vec<Finding>);

/// The tunnels of a description: each pair of sites once.
fn described(args: &Rehearse) -> Result<Result<Vec<Act>, Stopped>, Failure> {
    let (mut input, planned) = plan(&args.left, &args.supply)?;
    let Some(description) = input.description.take().filter(|_| !any_stops(&planned.findings)) else {
        return Ok(Err((input, planned.findings)));
    };
    let standing = match &args.built {
        Some(folder) => trees::standing(folder, &planned)?,
        None => planned.trees.clone(),
    };
    let pairs = parts::pairs(&planned, args.tunnel.as_deref());
    let mut acts = Vec::new();
    for ends in pairs {
        if args.from.as_ref().is_some_and(|from| !ends.contains(from)) {
            continue;
        }
        let Some(parts) = parts::of_sites(&description, &ends, &standing, args.built.as_deref()) else { continue };
        let opener = opener(args, &[&parts[0].name, &parts[1].name])?;
        let mut came = rehearse([parts[0].actor(), parts[1].actor()], opener);
        // What belongs to other pairs of sites is rehearsed there.
        came.alone = Default::default();
        acts.push(Act { parts, came });
    }
    Ok(Ok(acts))
}
