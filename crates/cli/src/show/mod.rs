//! What the user sees.

pub mod agreement;
pub mod changes;
pub mod comparison;
pub mod delivery;
pub mod findings;
pub mod ladder;
pub mod ladder_svg;
pub mod path;
pub mod progress;
#[cfg(feature = "prove")]
pub mod proof;
pub mod sheet;
pub mod table;
pub mod terminal;

use std::collections::BTreeMap;
use std::net::IpAddr;
use std::path::Path;

use anstyle::{AnsiColor, Style};
use uspan_core::dialect::shell;
use uspan_core::{Place, Source, shown};

/// Headings.
pub const HEADING: Style = Style::new().bold();
/// What is fine.
pub const GOOD: Style = AnsiColor::Green.on_default();
/// What stops the work.
pub const STOP: Style = AnsiColor::Red.on_default();
/// What deserves a look; no colour, because yellow cannot be read on a light ground.
pub const CARE: Style = Style::new().bold();
/// What is of less weight.
pub const QUIET: Style = Style::new().dimmed();

/// A text in a style; the stream takes the style away where it is not wanted.
pub fn styled(style: Style, text: &str) -> String {
    format!("{style}{text}{style:#}")
}

/// A path as it may stand in a message.
pub fn path_shown(path: &Path) -> String {
    shown(&path.to_string_lossy()).into_owned()
}

/// A path as a word of a command that is told to people.
pub fn path_word(path: &Path) -> String {
    shown(&shell::path(&path.to_string_lossy())).into_owned()
}

/// Two gateways as they are shown.
pub struct ShownEnds<'a> {
    /// Their names.
    pub names: [&'a str; 2],
    /// Their platforms.
    pub titles: [&'a str; 2],
    /// Their addresses, where they are known.
    pub addresses: [Option<IpAddr>; 2],
    /// Their files, by the path that places name.
    pub files: [&'a BTreeMap<String, Source>; 2],
}

/// File and line of a place, as the user would open it.
pub fn file_and_line(place: &Place, files: &BTreeMap<String, Source>) -> String {
    match files.get(&*place.file) {
        Some(source) => format!("{}:{}", source.name(), source.position(place.span.start).line),
        None => place.file.to_string(),
    }
}

/// Columns of the terminal, 80 where there is none.
pub fn columns() -> usize {
    terminal_size::terminal_size().map_or(80, |(width, _)| usize::from(width.0).clamp(40, 160))
}

/// Breaks a text into lines of at most `width` characters, between words.
pub fn wrapped(text: &str, width: usize) -> Vec<String> {
    let mut lines: Vec<String> = vec![String::new()];
    for word in text.split(' ') {
        let last = lines.last_mut().expect("never empty");
        if !last.is_empty() && last.chars().count() + 1 + word.chars().count() > width {
            lines.push(word.to_owned());
        } else {
            if !last.is_empty() {
                last.push(' ');
            }
            last.push_str(word);
        }
    }
    lines
}
