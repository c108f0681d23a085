//! `uspan prove`.

use std::collections::BTreeMap;
use std::io::IsTerminal as _;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use serde_json::{Value, json};
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use uspan_core::{Build, Finding, Foreign, Source, Tree, any_stops, covered, retire, rules};
use uspan_lab::{Event, Ground, Job, Lab, LabError, Options, cast, default_cache, ground, is_root, requirements, run as run_lab};

use super::check::plan_few;
use crate::args::{Format, Prove, Supply};
use crate::failure::{CommandOutcome, Failure};
use crate::files::trees;
use crate::files::{input, reading};
use crate::show::{STOP, findings, path_shown, proof, styled};

/// A description that is to be proven.
struct Case {
    file: String,
    source: Source,
    findings: Vec<Finding>,
    job: Job,
    /// Statements of the trees that are not the build's, and how many of the build's are not there.
    foreign: Foreign,
    /// The files that they stand in, as they may be shown.
    sources: BTreeMap<String, Source>,
}

pub fn run(args: &Prove) -> Result<CommandOutcome, Failure> {
    if args.prepare {
        let code = prepare(args)?;
        if args.files.is_empty() || code != CommandOutcome::Fine {
            return Ok(code);
        }
    }
    let mut cases = Vec::new();
    for file in &args.files {
        match case(file, args)? {
            Ok(mut case) => {
                case.job.number = cases.len();
                cases.push(case);
            }
            Err((found, source)) => return stopped(&found, &source, args.format),
        }
    }
    if let Some(name) = &args.tunnel
        && cases.iter().all(|case| case.job.tunnels.is_empty())
    {
        return Err(Failure::Usage(format!("no tunnel is called `{name}`")));
    }
    let (more, fewer) =
        (cases.iter().map(|case| case.foreign.more.len()).sum::<usize>(), cases.iter().map(|case| case.foreign.fewer).sum::<usize>());
    // Named before anything of them runs.
    for case in cases.iter().filter(|_| args.format == Format::Text) {
        findings::print_among(&case.foreign.more, &case.sources);
    }
    if more > 0 && !args.with_changes {
        if args.format == Format::Json {
            super::print_json(
                &json!({ "fine": false, "findings": foreign(&cases), "ground": null, "kernel": null, "changes": { "more": more, "fewer": 0 }, "proofs": [] }),
            )?;
        } else {
            let count =
                if more == 1 { "One statement is not the build's".to_owned() } else { format!("{more} statements are not the build's") };
            let meant = if more == 1 { "look at it; where it is meant" } else { "look at them; where they are meant" };
            let next = format!("Nothing was run. Next: {meant}, --with-changes");
            super::print_line(&format!("{}. {next}", styled(STOP, &count)))?;
        }
        return Ok(CommandOutcome::Stopped);
    }
    let ground = match able(&cases) {
        Ok(ground) => ground,
        Err(missing) => {
            stopped(&missing, &Source::new("", ""), args.format)?;
            return Ok(CommandOutcome::Unable);
        }
    };
    perform(&cases, ground, args, (more, fewer))
}

/// Reads and builds a description; the files are those of the build, or those that stand in a folder.
fn case(file: &Path, args: &Prove) -> Result<Result<Case, (Vec<Finding>, Source)>, Failure> {
    let (read, planned) = plan_few(file, &Supply { for_lab: true, ..args.supply.clone() }, args.tunnel.as_deref())?;
    let Some(description) = read.description.filter(|_| !any_stops(&planned.findings)) else {
        return Ok(Err((planned.findings, read.source)));
    };
    let (mut foreign, mut sources) = (Foreign::default(), BTreeMap::new());
    let trees = match &args.built {
        Some(folder) => trees::standing(folder, &planned)?,
        None => planned.trees.clone(),
    };
    if let Some(folder) = &args.built {
        for (site, tree) in &trees {
            let shown = covered(tree);
            let mut found = uspan_core::foreign(planned.trees.get(site).unwrap_or(&Tree::default()), tree, &shown);
            let path = |below: &str| path_shown(&folder.join(site).join(below));
            for place in found.more.iter_mut().filter_map(|finding| finding.place.as_mut()) {
                place.file = path(&place.file).into();
            }
            sources.extend(shown.files.iter().map(|(below, file)| (path(below), Source::new(path(below), file.text.as_str()))));
            foreign.more.append(&mut found.more);
            foreign.fewer += found.fewer;
        }
    }
    let scripts = scripts(&args.gateway_script, &planned)?;
    let wanted = |name: &str| args.tunnel.as_deref().is_none_or(|tunnel| tunnel == name);
    let retirements = retire(&description, &read.supplied, &planned, wanted);
    let job = cast(&description, &planned, &trees, &scripts, &retirements, wanted);
    Ok(Ok(Case { file: path_shown(file), source: read.source, findings: planned.findings, job, foreign, sources }))
}

/// Scripts by site.
fn scripts(given: &[String], planned: &Build) -> Result<BTreeMap<String, String>, Failure> {
    let mut scripts = BTreeMap::new();
    for text in given {
        let (site, file) = text.split_once('=').ok_or_else(|| Failure::Usage(format!("`{text}` is not SITE=FILE")))?;
        if !planned.trees.contains_key(site) {
            return Err(Failure::Usage(format!("no site is called `{site}`")));
        }
        let path = Path::new(file);
        scripts.insert(site.to_owned(), reading::text(path, reading::FILE).map_err(Failure::file("cannot read", path))?);
    }
    Ok(scripts)
}

/// The ground to work on, or everything that is missing.
fn able(cases: &[Case]) -> Result<Ground, Vec<Finding>> {
    if !is_root() {
        return Err(vec![Finding::new(&rules::LAB_NEEDS_ROOT, "the lab needs root")]);
    }
    let cache = default_cache();
    let context = input::context();
    let is_others = |word: &str| context.profile(word).is_some_and(|profile| profile.is_run_by_others());
    let others: Vec<_> = cases.iter().flat_map(|case| &case.job.sites).filter(|site| is_others(&site.platform)).collect();
    if let Some(site) = others.first() {
        let message = format!("{} has a gateway of another make, of which there is no daemon to prove anything with", site.name);
        let remedy = "Prove it with a stand-in: a copy of the description that names one of the platforms for that site.";
        return Err(vec![Finding::new(&rules::LAB_LACKS_PROGRAM, message).remedy(remedy)]);
    }
    let platforms: Vec<_> = cases.iter().flat_map(|case| case.job.sites.iter().map(|site| site.platform.as_str())).collect();
    let mut missing: Vec<_> =
        requirements(&platforms, cases.iter().any(|case| case.job.tunnels.iter().any(|tunnel| tunnel.routing)), &cache)
            .into_iter()
            .map(|missing| {
                let finding = Finding::new(&rules::LAB_LACKS_PROGRAM, format!("{} is not there", missing.what));
                match missing.package {
                    Some(package) => {
                        finding.remedy(format!("It comes with the package {package}; `uspan prove --prepare` installs all that is needed."))
                    }
                    None => finding,
                }
            })
            .collect();
    missing.dedup();
    match ground(&cache) {
        Ok(ground) if missing.is_empty() => return Ok(ground),
        Ok(_) => {}
        Err(lack) => missing.push(Finding::new(&rules::LAB_LACKS_KERNEL, lack.what)),
    }
    Err(missing)
}

fn stopped(found: &[Finding], source: &Source, format: Format) -> Result<CommandOutcome, Failure> {
    let empty = json!({ "ground": null, "kernel": null, "changes": { "more": 0, "fewer": 0 }, "proofs": [] });
    super::stopped(found, source, format, empty, "Nothing was proven")
}

/// Installs and builds what the lab needs.
fn prepare(args: &Prove) -> Result<CommandOutcome, Failure> {
    if !is_root() {
        stopped(&[Finding::new(&rules::LAB_NEEDS_ROOT, "the lab needs root")], &Source::new("", ""), args.format)?;
        return Ok(CommandOutcome::Unable);
    }
    let spinner = spinner();
    spinner.set_message("installing the daemons, and building a kernel where there is none (about seven minutes, once)");
    let (_, ground) = Lab::ready_for_tunnels(&default_cache())?;
    spinner.finish_and_clear();
    if args.format == Format::Text {
        super::print_line(&format!("The lab is ready: {}.", proof::ground_words(&ground)))?;
    }
    Ok(CommandOutcome::Fine)
}

/// A line that moves while the lab works; nothing where standard error is no terminal.
fn spinner() -> ProgressBar {
    let target = if std::io::stderr().is_terminal() { ProgressDrawTarget::stderr() } else { ProgressDrawTarget::hidden() };
    let bar = ProgressBar::with_draw_target(None, target);
    bar.set_style(ProgressStyle::with_template("{elapsed:>4} {wide_msg}").unwrap_or_else(|_| ProgressStyle::default_bar()));
    bar.enable_steady_tick(Duration::from_millis(200));
    bar
}

/// The statements that are not the build's.
fn foreign(cases: &[Case]) -> Vec<Value> {
    cases.iter().flat_map(|case| findings::json_list(&case.foreign.more, &case.sources)).collect()
}

fn perform(cases: &[Case], ground: Ground, args: &Prove, changes: (usize, usize)) -> Result<CommandOutcome, Failure> {
    let stop = Arc::new(AtomicBool::new(false));
    for signal in [SIGINT, SIGTERM, SIGHUP] {
        signal_hook::flag::register(signal, stop.clone()).map_err(LabError::from)?;
    }
    let workers = args.at_once.unwrap_or_else(|| std::thread::available_parallelism().map_or(1, usize::from));
    let options = Options { program: std::env::current_exe()?, ground, cache: default_cache(), workers, keep: args.keep.clone() };
    let jobs: Vec<Job> = cases.iter().map(|case| case.job.clone()).filter(|job| !job.tunnels.is_empty()).collect();
    let mut told = proof::ToldRows::default();
    let since = Instant::now();
    let progress = spinner();
    let (mut through, all) = (0, jobs.len());
    let ran = run_lab(jobs, &options, &stop, &mut |event| {
        if let Event::Now { job, doing } = &event {
            let count = if all > 1 { format!("{through} of {all} proven, {}: ", cases[*job].file) } else { String::new() };
            progress.set_message(format!("{count}{doing} ({})", told.so_far()));
        }
        through += usize::from(matches!(event, Event::Through(_)));
        told.add(event);
    });
    progress.finish_and_clear();
    ran?;
    let fine = told.fine();
    if args.format == Format::Json {
        let proofs: Vec<_> =
            cases.iter().map(|case| told.json(&case.file, &case.job, &findings::json(&case.findings, &case.source))).collect();
        super::print_json(&json!({
            "fine": fine,
            "findings": foreign(cases),
            "ground": proof::ground_words(&options.ground),
            "kernel": told.kernel,
            "changes": { "more": changes.0, "fewer": changes.1 },
            "proofs": proofs,
        }))?;
    } else {
        for case in cases {
            findings::print(&case.findings, &case.source);
            for (number, tunnel) in case.job.tunnels.iter().enumerate() {
                super::print_line(&told.table(&case.job, number, tunnel))?;
            }
        }
        if changes != (0, 0) {
            let more = if changes.0 == 1 { "one statement that is".to_owned() } else { format!("{} statements that are", changes.0) };
            let fewer = if changes.1 == 1 { "one of the build's is".to_owned() } else { format!("{} of the build's are", changes.1) };
            super::print_line(&format!("What was run is what stands in the folder: {more} not the build's, and {fewer} not there."))?;
        }
        super::print_line(&told.closing(&options.ground, since.elapsed(), args.keep.as_deref()))?;
    }
    Ok(match (fine, told.lab_failed()) {
        (true, _) => CommandOutcome::Fine,
        (false, true) => CommandOutcome::Unable,
        (false, false) => CommandOutcome::Stopped,
    })
}
