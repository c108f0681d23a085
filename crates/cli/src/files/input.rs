//! Reads a description and the secret files it names.

use std::fs;
use std::io::{self, Read as _};
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;
use std::time::{SystemTime, UNIX_EPOCH};

use uspan_core::{Description, Finding, Given, Secret, SecretFile, Source, Supplied, rules};
use zeroize::Zeroizing;

use crate::args::Supply;
use crate::failure::Failure;
use crate::files::keys;
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
        let text = fs::read_to_string(file).map_err(Failure::file("cannot read", file))?;
        let source = Source::new(file.display().to_string(), text);
        let findings = given.add_file(&source);
        if !findings.is_empty() {
            return Ok(Input { source, description: None, supplied: Supplied::default(), findings });
        }
    }
    let bytes = fs::read(path).map_err(Failure::file("cannot read", path))?;
    Ok(understand(path, bytes, &given, supply.for_lab))
}

/// Reads a text as if it stood in this file.
pub fn read_text(path: &Path, text: String) -> Input {
    understand(path, text.into_bytes(), &Given::default(), false)
}

fn understand(path: &Path, bytes: Vec<u8>, given: &Given, for_lab: bool) -> Input {
    let name = path.display().to_string();
    let text = match String::from_utf8(bytes) {
        Ok(text) => text,
        Err(error) => return not_text(&name, &error),
    };
    // Remarks in the files name the description without its folders: the same bytes wherever it stands.
    let short = path.file_name().map_or_else(|| name.clone(), |n| n.to_string_lossy().into_owned());
    let folder = path.parent().unwrap_or(Path::new(""));
    let mut further = Vec::new();
    let (mut description, mut findings) = Description::parse_with(&Source::new(short.clone(), text.as_str()), &mut |file| {
        let found = folder.join(file);
        let text = read_inventory(&found)?;
        further.push(Source::new(found.display().to_string(), text.as_str()));
        Ok(text)
    });
    findings.extend(description.give(given));
    let source = Source::new(name, text).followed_by(further);
    // Certificates end; before 1970 none holds.
    let now = SystemTime::now().duration_since(UNIX_EPOCH).ok().and_then(|since| i64::try_from(since.as_secs()).ok());
    let mut supplied = Supplied { now, for_lab, ..Supplied::default() };
    let files = description.secret_files();
    let progress = Progress::new("judging secrets", files.len());
    for file in files.into_keys() {
        progress.step();
        supplied.secrets.insert(file.to_owned(), read_secret(&folder.join(file)));
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
    let bytes = fs::read(path).map_err(|error| error.to_string())?;
    String::from_utf8(bytes).map_err(|error| format!("byte {} is not part of a character", error.utf8_error().valid_up_to() + 1))
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

fn read_secret(path: &Path) -> SecretFile {
    match read_secret_file(path) {
        Ok(found) => found,
        Err(error) if error.kind() == io::ErrorKind::NotFound => SecretFile::Missing,
        Err(error) => SecretFile::Unreadable(error.to_string()),
    }
}

fn read_secret_file(path: &Path) -> io::Result<SecretFile> {
    let file = fs::File::open(path)?;
    let meta = file.metadata()?;
    if !meta.is_file() {
        return Ok(SecretFile::Unreadable("it is not a file".to_owned()));
    }
    let mut content = Zeroizing::new(Vec::with_capacity(usize::try_from(meta.len().min(LARGEST)).unwrap_or(0)));
    file.take(LARGEST).read_to_end(&mut content)?;
    let Ok(secret) = Secret::from_file(&content) else { return Ok(SecretFile::SeveralLines) };
    let guesses_log10 = guesses(&secret);
    Ok(SecretFile::Read { guesses_log10, exposed: meta.permissions().mode() & 0o077 != 0, secret })
}

/// How many guesses a secret takes, if it is without doubt one that a machine drew: digits and letters of both cases, or
/// hexadecimal digits, without order. Whatever could be words is for the dictionaries.
fn drawn(secret: &Secret) -> Option<f64> {
    const SHORTEST: usize = 32;
    let bytes = secret.expose();
    if bytes.len() < SHORTEST || !bytes.is_ascii() {
        return None;
    }
    let hexadecimal = bytes.iter().all(|byte| byte.is_ascii_digit() || matches!(byte, b'a'..=b'f'));
    let class = |byte: u8| match byte {
        b'0'..=b'9' => 0,
        b'a'..=b'z' => 1,
        b'A'..=b'Z' => 2,
        _ => 3,
    };
    let steps = bytes.len() - 1;
    // Words change from one kind of character to another seldom; what is drawn does so at two steps of three.
    let changes = bytes.windows(2).filter(|pair| class(pair[0]) != class(pair[1])).count();
    let (needed, bits) = if hexadecimal { (steps / 3, 4.0) } else { (steps * 2 / 5, 5.0) };
    // Nothing of it is there twice, and nothing counts up or down or stays.
    let repeated = bytes.windows(4).collect::<std::collections::HashSet<_>>().len() < bytes.len() - 3;
    let ordered = bytes.windows(3).filter(|three| three[1].wrapping_sub(three[0]) == three[2].wrapping_sub(three[1])).count() > steps / 8;
    let distinct = bytes.iter().collect::<std::collections::BTreeSet<_>>().len();
    let drawn = changes >= needed && !repeated && !ordered && distinct >= if hexadecimal { 8 } else { 20 };
    let length = f64::from(u32::try_from(bytes.len()).unwrap_or(u32::MAX));
    drawn.then_some(length * bits * std::f64::consts::LOG10_2)
}

/// How many guesses a secret takes, as a decimal logarithm. Bytes that are no text are judged by
/// their number alone.
fn guesses(secret: &Secret) -> f64 {
    const PIECE: usize = 8;
    let Ok(text) = std::str::from_utf8(secret.expose()) else {
        return f64::from(u32::try_from(secret.expose().len()).unwrap_or(u32::MAX)) * 2.4;
    };
    if let Some(guesses) = drawn(secret) {
        return guesses;
    }
    let whole = zxcvbn::zxcvbn(text, &[]);
    // The library counts up to 2^64. A secret that reaches that is judged by its pieces, which an
    // attacker would have to guess one with the other.
    if whole.guesses() < u64::MAX {
        return whole.guesses_log10();
    }
    let chars: Vec<char> = text.chars().collect();
    let pieces = chars.chunks(PIECE).map(|piece| Zeroizing::new(piece.iter().collect::<String>()));
    let sum: f64 = pieces.map(|piece| zxcvbn::zxcvbn(&piece, &[]).guesses_log10()).sum();
    sum.max(whole.guesses_log10())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_machine_drew_needs_no_dictionary_and_words_do() {
        let drawn = |text: &str| drawn(&Secret::new(text.as_bytes().to_vec())).is_some();
        for text in ["1f0c2b9a77e4d3056c8812fe9d0a4b63", "b2A9xQ7mLr0Zt5WkP1vEc8HsUy3NjGd6", "q8Zk2LmW7vXc4RtY1nBh9PsD3fGj6Aqe"] {
            assert!(drawn(text), "{text}");
        }
        for text in [
            "correct horse battery staple and more of it",
            "AlderCreekOrchardsPackhouseColdstore2026",
            "Password12345678Password12345678",
            "0123456789abcdef0123456789abcdef",
            "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa",
            "deadbeefcafebabefacadeacceded000",
            "1f0c2b9a77e4d305",
        ] {
            assert!(!drawn(text), "{text}");
        }
    }
}
