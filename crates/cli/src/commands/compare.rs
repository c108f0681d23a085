//! `uspan compare`.

use std::path::Path;

use serde_json::json;
use uspan_core::{Comparison, Gravity, ReadGateway, any_stops, compare_ends, compare_same, read_tree};

use super::many;
use super::parts::{self, Participant};
use crate::args::{Compare, Format};
use crate::failure::{CommandOutcome, Failure};
use crate::files::input;
use crate::show::{CARE, GOOD, STOP, comparison, findings, path_shown, styled};

pub fn run(args: &Compare) -> Result<CommandOutcome, Failure> {
    if let (Some(file), None, false) =
        (&args.against, &args.site, ["etc", "parameters"].iter().any(|folder| args.first.join(folder).is_dir()))
    {
        return many::compared(&args.first, input::read(file, &args.supply)?, args.format);
    }
    let (first, second) = match &args.second {
        Some(second) => parts::of_folders([&args.first, second], [args.first_platform.as_deref(), args.second_platform.as_deref()])
            .map(|[first, second]| (first, Some(second)))?,
        None => parts::of_folder(&args.first, args.first_platform.as_deref(), "--first-platform").map(|first| (first, None))?,
    };
    let (mut compared, about, against) = match (&second, &args.against) {
        (Some(second), _) => (compare_ends(first.actor(), second.actor()), parts::Told::default(), false),
        (None, Some(file)) => match against(&first, file, args)? {
            Some((compared, about)) => (compared, about, true),
            None => return Ok(CommandOutcome::Stopped),
        },
        (None, None) => return Err(Failure::Usage("name a second folder, or a description with --against".to_owned())),
    };
    if let Some(name) = &args.tunnel {
        compared.pairs.retain(|pair| pair.names.contains(name));
        compared.alone.iter_mut().for_each(|list| list.retain(|alone| alone == name));
    }
    if compared.pairs.is_empty() && compared.alone.iter().all(Vec::is_empty) {
        let which = args.tunnel.as_ref().map_or_else(String::new, |name| format!(" of the name `{name}`"));
        return Err(Failure::Usage(format!("no connection{which} was found in `{}`", path_shown(&args.first))));
    }
    let names = [first.name.as_str(), second.as_ref().map_or("description", |second| second.name.as_str())];
    // A connection without counterpart may be for a third gateway; against its description it may not.
    let lost = compared.pairs.is_empty() || (against && compared.alone.iter().any(|list| !list.is_empty()));
    let reads: Vec<&Participant> = std::iter::once(&first).chain(&second).collect();
    let unsure = parts::unsure(reads.iter().copied());
    let differs = lost || compared.count(Gravity::Fatal) > 0 || (against && compared.count(Gravity::Compatible) > 0);
    let doubtful = compared.pairs.iter().any(|pair| !pair.doubts.is_empty());
    let stopped = differs || doubtful || unsure.is_some();
    let files = [0, 1].map(|end| reads.get(end).map(|read| &read.sources));
    if args.format == Format::Json {
        let parts::Told { found, sources } = about.with(reads.iter().copied());
        let each: Vec<_> = compared.pairs.iter().map(|pair| comparison::json(pair, &files)).collect();
        super::print_json(&json!({
            "fine": !stopped,
            "between": names,
            "pairs": each,
            "alone": compared.alone,
            "findings": findings::json_among(&found, &sources),
        }))?;
    } else {
        let (found, sources) = parts::found(reads.iter().copied());
        findings::print_among(&found, &sources);
        for pair in &compared.pairs {
            super::print_line(&format!("{}\n", comparison::text(pair, names, &files, args.all)))?;
        }
        for (name, list) in names.iter().zip(&compared.alone).filter(|(_, list)| !list.is_empty()) {
            super::print_line(&format!("{name}: without a counterpart: {}\n", list.join(", ")))?;
        }
        super::print_line(&unsure.filter(|_| !differs).unwrap_or_else(|| closing(&compared, against, lost)))?;
    }
    Ok(if stopped { CommandOutcome::Stopped } else { CommandOutcome::Fine })
}

/// One line that says how it stands and what to do next.
fn closing(compared: &Comparison, against: bool, lost: bool) -> String {
    let (fatal, other) = (compared.count(Gravity::Fatal), compared.count(Gravity::Compatible));
    let plural = |n: usize| if n == 1 { "" } else { "s" };
    if fatal == 0 && !lost && compared.pairs.iter().any(|pair| !pair.doubts.is_empty()) {
        let what = styled(STOP, "It cannot be said");
        return format!("{what} whether the two ends fit. Next: see to the lines that are not understood.");
    }
    if lost {
        let what = if against { "A tunnel stands on one side alone" } else { "No two connections belong together" };
        return format!("{}.", styled(STOP, what));
    }
    match (fatal, other) {
        (0, 0) if against => format!("{}. The gateway is as described.", styled(GOOD, "Fine")),
        (0, 0) => format!("{}. The two ends are alike.", styled(GOOD, "Fine")),
        (0, n) if against => {
            format!(
                "{}. Next: carry them into the description, or build and install anew.",
                styled(CARE, &format!("{n} change{}", plural(n)))
            )
        }
        (0, n) => format!("{}, with {n} harmless difference{}.", styled(GOOD, "Fine"), plural(n)),
        (n, harmless) => {
            let more = if harmless > 0 { format!(", {harmless} harmless") } else { String::new() };
            let fatal = styled(STOP, &format!("{n} fatal difference{}", plural(n)));
            format!("{fatal}{more}. Next: mend the first one above, and compare again.")
        }
    }
}

/// Holds a gateway against what its description would write now; nothing where that cannot be built.
fn against(first: &Participant, file: &Path, args: &Compare) -> Result<Option<(Comparison, parts::Told)>, Failure> {
    let (input, planned) = super::check::plan(file, &args.supply)?;
    if any_stops(&planned.findings) {
        let empty = json!({ "between": [first.name, "description"], "pairs": [], "alone": [[], []] });
        super::stopped(&planned.findings, &input.source, args.format, empty, "Nothing was compared")?;
        return Ok(None);
    }
    let site = args.site.as_deref().unwrap_or(&first.name);
    let description = input.description.as_ref();
    let described = description.and_then(|description| description.sites.iter().find(|known| known.name.value == site));
    let (Some(described), Some(tree)) = (described, planned.trees.get(site)) else {
        let known: Vec<_> = planned.trees.keys().map(String::as_str).collect();
        return Err(Failure::Usage(format!(
            "the description has no site `{site}` with a tunnel; --site takes one of {}",
            known.join(", ")
        )));
    };
    let (gateway, _) = read_tree(&input::context(), &described.platform.value, tree);
    let should = ReadGateway { name: "description", gateway: &gateway, ends_open: false, tree: Some(tree) };
    Ok(Some((compare_same(first.reading(), should), parts::Told::of(&planned, &input))))
}
