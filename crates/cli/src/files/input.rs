//! Reads a description and the secret files it names.

use std::collections::HashSet;
use std::io;
use std::path::Path;
use std::time::{SystemTime, UNIX_EPOCH};

use uspan_core::{Context, Description, Finding, Given, Secret, SecretFile, Source, Supplied, rules};

use crate::args::Supply;
use crate::failure::Failure;
use crate::files::{keys, reading, strength};
use crate::show::path_shown;
use crate::show::progress::Progress;

/// A description as read from a file, with everything that came with it.
pub struct Input {
    /// The text, for showing findings.
    pub source: Source,
    /// What could be understood of it; nothing if it is not even text.
    pub description: Option<Description>,
    /// Secret files.
    pub supplied: Supplied,
    /// What was found so far.
    pub findings: Vec<Finding>,
}

/// Reads a description, and what is supplied for what it leaves open.
pub fn read(path: &Path, supply: &Supply) -> Result<Input, Failure> {
    let mut given = Given::default();
    for text in &supply.given {
        given.add(text).map_err(Failure::Usage)?;
    }
    if let Some(file) = &supply.given_from {
        let text = reading::text(file, reading::FILE).map_err(Failure::file("cannot read", file))?;
        let source = Source::new(path_shown(file), text);
        let findings = given.add_file(&source);
        if !findings.is_empty() {
            return Ok(Input { source, description: None, supplied: Supplied::default(), findings });
        }
    }
    let (mut bytes, _) = reading::bytes(path, reading::TABLE).map_err(Failure::file("cannot read", path))?;
    Ok(understand(path, std::mem::take(&mut *bytes), &given, supply.for_lab))
}

/// The platforms and packet filters that are known.
pub fn context() -> Context {
    Context::built_in()
}

/// Reads a text as if it stood in this file.
pub fn read_text(path: &Path, text: String) -> Input {
    understand(path, text.into_bytes(), &Given::default(), false)
}

fn understand(path: &Path, bytes: Vec<u8>, given: &Given, for_lab: bool) -> Input {
    let name = path_shown(path);
    let text = match String::from_utf8(bytes) {
        Ok(text) => text,
        Err(error) => return not_text(&name, &error),
    };
    // Remarks in the files name the description without its folders: the same bytes wherever it stands.
    let short = path.file_name().map_or_else(|| name.clone(), |n| path_shown(Path::new(n)));
    let folder = path.parent().unwrap_or(Path::new(""));
    let mut further = Vec::new();
    let context = context();
    let (mut description, mut findings) = Description::parse_with(&Source::new(short.clone(), text.as_str()), &context, &mut |file| {
        let found = folder.join(file);
        let text = read_inventory(&found)?;
        further.push(Source::new(path_shown(&found), text.as_str()));
        Ok(text)
    });
    findings.extend(description.give(given));
    let source = Source::new(name, text).followed_by(further);
    // Certificates end; before 1970 none holds.
    let now = SystemTime::now().duration_since(UNIX_EPOCH).ok().and_then(|since| i64::try_from(since.as_secs()).ok());
    let mut supplied = Supplied { now, for_lab, ..Supplied::default() };
    let files = description.secret_files();
    let progress = Progress::new("judging secrets", files.len());
    let words = names(description.source.text());
    for file in files.into_keys() {
        progress.step();
        supplied.secrets.insert(file.to_owned(), read_secret(&folder.join(file), &words));
    }
    for file in description.key_files() {
        supplied.keys.insert(file.to_owned(), keys::read(&folder.join(file)));
    }
    drop(progress);
    relocate(&mut findings, &description.source, &source);
    Input { source, description: Some(description), supplied, findings }
}

/// Shows findings under the paths by which the files were found.
pub fn relocate(findings: &mut [Finding], short: &Source, source: &Source) {
    for finding in findings {
        for place in finding.place.iter_mut().chain(finding.related.iter_mut().map(|(place, _)| place)) {
            let found = short.texts().zip(source.texts()).find(|((_, short), _)| *short.name() == place.file);
            if let Some((_, (_, text))) = found {
                place.file = text.name().clone();
            }
        }
    }
}

/// The text of an inventory, or why there is none.
fn read_inventory(path: &Path) -> Result<String, String> {
    reading::text(path, reading::TABLE).map_err(|error| error.to_string())
}

fn not_text(name: &str, error: &std::string::FromUtf8Error) -> Input {
    let at = error.utf8_error().valid_up_to();
    let source = Source::new(name, String::from_utf8_lossy(error.as_bytes()).into_owned());
    let finding =
        Finding::new(&rules::NOT_UTF8, "this byte is not part of a character").at(source.place((at..at + '\u{fffd}'.len_utf8()).into()));
    Input { source, description: None, supplied: Supplied::default(), findings: vec![finding] }
}

/// No secret is as long; a larger file is not one.
const LARGEST: u64 = 64 * 1024;

fn read_secret(path: &Path, names: &[&str]) -> SecretFile {
    match read_secret_file(path, names) {
        Ok(found) => found,
        Err(error) if error.kind() == io::ErrorKind::NotFound => SecretFile::Missing,
        Err(error) => SecretFile::Unreadable(error.to_string()),
    }
}

fn read_secret_file(path: &Path, names: &[&str]) -> io::Result<SecretFile> {
    let (content, mode) = reading::bytes(path, LARGEST)?;
    let Ok(secret) = Secret::from_file(&content) else { return Ok(SecretFile::SeveralLines) };
    let drawn = strength::drawn(&secret);
    let guesses_log10 = drawn.unwrap_or_else(|| strength::guesses(&secret, names));
    Ok(SecretFile::Read { guesses_log10, drawn: drawn.is_some(), exposed: mode & 0o077 != 0, secret })
}

/// As many words an attacker would try first.
const NAMES: usize = 500;

/// The words of a description, which whoever knows the place would try first: names of sites, of networks, of the firm.
fn names(text: &str) -> Vec<&str> {
    let mut names: Vec<&str> = Vec::new();
    let mut known = HashSet::new();
    for word in text.split(|c: char| !c.is_alphanumeric()).filter(|word| word.chars().count() > 2) {
        if names.len() < NAMES && known.insert(word) {
            names.push(word);
        }
    }
    names
}
