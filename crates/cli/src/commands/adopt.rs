//! `uspan adopt`.

use std::path::{Path, PathBuf};

use serde_json::json;
use uspan_core::{Adopted, Adoptee, Leaving, LeavingPart, Note, NoteKind, adopt, any_stops, compare_same, leaving, read_tree, shown};

use super::check::plan;
use super::parts::{self, Participant};
use crate::args::{Adopt, Format, Supply};
use crate::failure::{CommandOutcome, Failure};
use crate::files::{input, single};
use crate::show::{CARE, GOOD, HEADING, STOP, columns, file_and_line, findings, path_shown, path_word, styled, wrapped};

pub fn run(args: &Adopt) -> Result<CommandOutcome, Failure> {
    let parts = parts::of_folders([&args.first, &args.second], [args.first_platform.as_deref(), args.second_platform.as_deref()])?;
    let mut adopted = adopt(parts.each_ref().map(|part| Adoptee { reading: part.reading(), facts: &part.facts }));
    if !adopted.text.contains("[tunnel.") {
        let what = format!("no two connections in `{}` and `{}` belong together", path_shown(&args.first), path_shown(&args.second));
        return Err(Failure::Usage(what));
    }
    let has = |kind: NoteKind| adopted.notes.iter().any(|note| note.kind == kind);
    let (fatal, lost) = (has(NoteKind::Disagrees), has(NoteKind::LeftOut));
    if has(NoteKind::AnotherTunnel) {
        return another(&adopted, &parts, args.format);
    }
    let head = head(&adopted, &parts);
    adopted.text.insert_str(0, &head);
    let folder = args.output.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let files: Vec<(PathBuf, &uspan_core::Secret)> = adopted.secrets.iter().map(|(file, secret)| (folder.join(file), secret)).collect();
    let goes: Vec<(PathBuf, Leaving)> = (0..2)
        .map(|end| {
            let part = &parts[end];
            let left = leaving(&part.name, &part.facts, &part.gateway, &part.defined, &adopted.taken[end]);
            (folder.join(format!("old/{}.sh", adopted.sites[end])), left)
        })
        .collect();
    let shown: Vec<(PathBuf, &String)> = adopted.shown.iter().map(|(file, pem)| (folder.join(file), pem)).collect();
    for path in files
        .iter()
        .map(|(path, _)| path)
        .chain(shown.iter().map(|(path, _)| path))
        .chain(goes.iter().map(|(path, _)| path))
        .chain([&args.output])
    {
        single::vacant(path, args.replace)?;
    }
    for (path, pem) in &shown {
        single::text(path, pem, args.replace)?;
    }
    for (path, left) in &goes {
        single::text(path, &left.script, args.replace)?;
    }
    for (path, kept) in &files {
        single::secret(path, kept.expose(), args.replace)?;
    }
    single::text(&args.output, &adopted.text, args.replace)?;
    // What it now says is built once, to see what that changes on the gateways.
    let supply = Supply { for_lab: true, ..Supply::default() };
    let (read, planned) = plan(&args.output, &supply)?;
    let stops = any_stops(&planned.findings);
    let changes: Vec<(String, String)> = match &read.description {
        Some(description) if !stops => parts.iter().flat_map(|part| changes(part, description, &planned)).collect(),
        _ => Vec::new(),
    };
    if args.format == Format::Json {
        let written: Vec<_> = files.iter().map(|(path, _)| path.as_path()).collect();
        let keys: Vec<_> = shown.iter().map(|(path, _)| path.as_path()).collect();
        let fine = !stops && !fatal && !lost;
        let told = parts::Told::of(&planned, &read).with(&parts);
        let written = WrittenFiles { description: &args.output, secrets: &written, keys: &keys, goes: &goes };
        print_json(fine, Some(&written), (&adopted, &parts), &changes, &told)?;
    } else {
        parts::print_findings(&parts);
        for note in &adopted.notes {
            super::print_line(&told(note, &parts))?;
        }
        findings::print(&planned.findings, &read.source);
        for (site, what) in &changes {
            super::print_line(&format!("{} {site}: {what}", styled(CARE, "changes")))?;
        }
        if !changes.is_empty() {
            super::print_line("")?;
        }
        for (part, (path, left)) in parts.iter().zip(&goes) {
            super::print_line(&must_go(&part.name, path, left))?;
        }
        super::print_line(&closing(args, &files, &shown, &goes, (fatal, lost), stops))?;
    }
    Ok(if stops || fatal || lost { CommandOutcome::Stopped } else { CommandOutcome::Fine })
}

fn note_json(note: &Note, parts: &[Participant; 2]) -> serde_json::Value {
    let place = |end: usize| note.places[end].as_ref().map(|place| file_and_line(place, &parts[end].sources));
    let fatal = note.kind == NoteKind::Disagrees;
    json!({
        "tunnel": note.tunnel,
        "about": note.about,
        "text": note.text,
        "places": [place(0), place(1)],
        "kind": note.kind.word(),
        "fatal": fatal,
    })
}

/// What was written.
struct WrittenFiles<'a> {
    description: &'a Path,
    secrets: &'a [&'a Path],
    keys: &'a [&'a Path],
    /// What takes the old definitions out of each gateway.
    goes: &'a [(PathBuf, Leaving)],
}

/// What must go from a gateway, for people.
fn must_go(name: &str, script: &Path, left: &Leaving) -> String {
    let room = columns().min(120).saturating_sub(8);
    let mut lines = vec![format!("{} {}", styled(CARE, "goes   "), styled(HEADING, &format!("what stands on {name} before")))];
    let mut add = |text: &str| lines.extend(wrapped(text, room).iter().map(|line| format!("        {line}")));
    for part in &left.parts {
        let (first, last) = part.lines;
        let place = if first == last { format!("line {first}") } else { format!("lines {first} to {last}") };
        add(&format!("/{}, {place}: {}", part.file, part.what));
    }
    left.by_hand.iter().for_each(|text| add(&format!("by hand: {text}")));
    add(&format!("run {} there, as root, before the new files are put into place", path_shown(script)));
    lines.join("\n") + "\n"
}

fn leaving_json(site: &str, (script, left): &(PathBuf, Leaving)) -> serde_json::Value {
    let part = |part: &LeavingPart| json!({ "file": format!("/{}", part.file), "lines": [part.lines.0, part.lines.1], "what": part.what });
    json!({ "site": site, "script": script, "parts": left.parts.iter().map(part).collect::<Vec<_>>(), "by_hand": left.by_hand })
}

/// What came of it, for programs: what was written, if anything was.
fn print_json(
    fine: bool,
    written: Option<&WrittenFiles<'_>>,
    (adopted, parts): (&Adopted, &[Participant; 2]),
    changes: &[(String, String)],
    told: &parts::Told,
) -> Result<(), Failure> {
    let changed = |(site, what): &(String, String)| json!({ "site": site, "what": what });
    super::print_json(&json!({
        "fine": fine,
        "description": written.map(|written| written.description),
        "secrets": written.map_or(&[][..], |written| written.secrets),
        "keys": written.map_or(&[][..], |written| written.keys),
        "goes": written.map_or(&[][..], |written| written.goes).iter().zip(&adopted.sites).map(|(goes, site)| leaving_json(site, goes)).collect::<Vec<_>>(),
        "notes": adopted.notes.iter().map(|note| note_json(note, parts)).collect::<Vec<_>>(),
        "changes": changes.iter().map(changed).collect::<Vec<_>>(),
        "findings": findings::json_among(&told.found, &told.sources),
    }))
}

/// Nothing is written where a description would make another tunnel.
fn another(adopted: &Adopted, parts: &[Participant; 2], format: Format) -> Result<CommandOutcome, Failure> {
    if format == Format::Json {
        print_json(false, None, (adopted, parts), &[], &parts::Told::default().with(parts))?;
        return Ok(CommandOutcome::Stopped);
    }
    parts::print_findings(parts);
    for note in adopted.notes.iter().filter(|note| note.kind == NoteKind::AnotherTunnel) {
        super::print_line(&told(note, parts))?;
    }
    let what = styled(STOP, "Nothing was written");
    super::print_line(&format!("{what}: the description would make another tunnel. Next: see to the lines above."))?;
    Ok(CommandOutcome::Stopped)
}

/// The first lines of the description: where it came from, and every note.
fn head(adopted: &Adopted, parts: &[Participant; 2]) -> String {
    let mut head = format!("# Taken over from the files of {} and {}.\n", parts[0].name, parts[1].name);
    for note in &adopted.notes {
        let of = note.tunnel.as_ref().map_or_else(String::new, |tunnel| format!("tunnel {tunnel}, "));
        let text = format!(
            "{}{of}{}: {}",
            match note.kind {
                NoteKind::Disagrees => "DISAGREES: ",
                NoteKind::LeftOut => "LEFT OUT: ",
                NoteKind::Told | NoteKind::AnotherTunnel => "",
            },
            note.about,
            note.text
        );
        for (i, line) in wrapped(&shown(&text.replace('\n', " ")), 110).into_iter().enumerate() {
            head.push_str(if i == 0 { "# - " } else { "#   " });
            head.push_str(&line);
            head.push('\n');
        }
    }
    head
}

fn told(note: &Note, parts: &[Participant; 2]) -> String {
    let (word, style) = match note.kind {
        NoteKind::Told => ("note", CARE),
        NoteKind::LeftOut => ("lost", CARE),
        NoteKind::Disagrees => ("fatal", STOP),
        NoteKind::AnotherTunnel => ("stops", STOP),
    };
    let of = note.tunnel.as_ref().map_or_else(String::new, |tunnel| format!("{tunnel}: "));
    let mut lines = vec![format!("{} {}", styled(style, &format!("{word:<7}")), styled(HEADING, &format!("{of}{}", note.about)))];
    let room = columns().min(120).saturating_sub(8);
    lines.extend(wrapped(&note.text, room).iter().map(|line| format!("        {line}")));
    for (part, place) in parts.iter().zip(&note.places) {
        lines.extend(place.as_ref().map(|place| format!("        {}", file_and_line(place, &part.sources))));
    }
    if note.kind == NoteKind::Disagrees {
        lines.push(format!("        taken: what {} says", parts[0].name));
    }
    lines.join("\n") + "\n"
}

/// What building the description anew changes on a gateway, a line for each parameter.
fn changes(part: &Participant, description: &uspan_core::Description, planned: &uspan_core::Build) -> Vec<(String, String)> {
    let site = description.sites.iter().find(|site| site.name.value == part.name.to_lowercase());
    let Some((site, tree)) = site.and_then(|site| Some((site, planned.trees.get(&site.name.value)?))) else { return Vec::new() };
    let (gateway, _) = read_tree(&input::context(), &site.platform.value, tree);
    let should = uspan_core::ReadGateway { name: "description", gateway: &gateway, ends_open: false, tree: Some(tree) };
    let compared = compare_same(part.reading(), should);
    let differs = compared.pairs.iter().flat_map(|pair| pair.told()).map(|(parameter, _)| parameter);
    let differs = differs.filter(|parameter| parameter.gravity != uspan_core::Gravity::Equal);
    differs
        .filter_map(|parameter| {
            let [old, new] = parameter.values.each_ref().map(|shown| shown.value.replace('\n', "; "));
            // What differs in no word, such as a margin, is no change that anybody could weigh.
            (old != new).then(|| (part.name.clone(), format!("{}: {old} becomes {new}", parameter.name)))
        })
        .collect()
}

fn closing(
    args: &Adopt,
    files: &[(PathBuf, &uspan_core::Secret)],
    shown: &[(PathBuf, &String)],
    goes: &[(PathBuf, Leaving)],
    (fatal, lost): (bool, bool),
    stops: bool,
) -> String {
    let keys = shown.iter().map(|(path, _)| path).chain(goes.iter().map(|(path, _)| path));
    let written: Vec<_> = files.iter().map(|(path, _)| path).chain(keys).chain([&args.output]).map(|path| path_shown(path)).collect();
    let written = format!("Written: {}.", written.join(", "));
    let next = match (stops, fatal) {
        (true, _) => format!(
            "{}. Next: mend what is found above, and run uspan check {}",
            styled(STOP, "It does not build yet"),
            path_word(&args.output)
        ),
        (false, true) => format!("{}. Next: decide, in the description, what the notes tell.", styled(STOP, "The two ends disagree")),
        (false, false) if lost => format!(
            "{}. Next: read at its head what is left out, then uspan check {}",
            styled(CARE, "Not all is carried over"),
            path_word(&args.output)
        ),
        (false, false) => {
            format!("{}. Next: write the interfaces' names, then uspan check {}", styled(GOOD, "Fine"), path_word(&args.output))
        }
    };
    format!("{written}\n{next}")
}
