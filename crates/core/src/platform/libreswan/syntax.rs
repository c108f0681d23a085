//! The formats of ipsec.conf(5) and ipsec.secrets(5).

use crate::finding::{self as rules, Finding};
use crate::platform::Unwritable;
use crate::source::{Located, Source, Span};

/// A `conn` or `config` section, in the order of the file.
#[derive(Debug)]
pub(super) struct Section {
    pub kind: String,
    pub name: Located<String>,
    pub settings: Vec<(Located<String>, Located<String>)>,
}

impl Section {
    pub(super) fn get(&self, key: &str) -> Option<&Located<String>> {
        self.settings.iter().find(|(name, _)| name.value == key).map(|(_, value)| value)
    }
}

/// A value of a setting. A value with white space stands in double quotes and cannot hold one.
///
/// # Errors
/// What the format has no way to say.
pub(super) fn quote(text: &str) -> Result<String, Unwritable> {
    if text.is_empty() || text.chars().any(|c| c.is_control() || c == '"') {
        return Err(Unwritable::new("a double quote, a control character or nothing at all in a value", "Choose a plain value."));
    }
    let plain = text.bytes().all(|b| b.is_ascii_graphic() && !b"#='\\".contains(&b)) && !text.starts_with('-');
    Ok(if plain { text.to_owned() } else { format!("\"{text}\"") })
}

/// Reads a configuration file. Total: what cannot be read is reported and skipped.
pub(super) fn parse(source: &Source) -> (Vec<Section>, Vec<Finding>) {
    let (mut sections, mut findings): (Vec<Section>, Vec<Finding>) = (Vec::new(), Vec::new());
    for (start, line) in lines(source.text()) {
        let indented = line.starts_with([' ', '\t']);
        let body = line.trim();
        if body.is_empty() || body.starts_with('#') {
            continue;
        }
        let at = start + (line.len() - line.trim_start().len());
        let span = Span { start: at, end: at + body.len() };
        let broken = |message: &str| Finding::new(&rules::DEVICE_SYNTAX, message).at(source.place(span));
        if indented {
            match (sections.last_mut(), body.split_once('=')) {
                (Some(section), Some((key, value))) => match unquote(value.trim()) {
                    Some(value) => {
                        let key = Located::new(key.trim().to_owned(), at..at + key.trim_end().len());
                        section.settings.push((key, Located::new(value.to_owned(), span)));
                    }
                    None => findings.push(broken("a quote is not closed")),
                },
                (None, _) => findings.push(broken("a setting outside a section")),
                (_, None) => findings.push(broken("not a setting: `=` is missing")),
            }
            continue;
        }
        match body.split_once([' ', '\t']) {
            Some((kind @ ("conn" | "config"), name)) => {
                sections.push(Section { kind: kind.to_owned(), name: Located::new(name.trim().to_owned(), span), settings: Vec::new() });
            }
            _ => findings.push(broken("neither a section nor a setting; settings are indented")),
        }
    }
    (sections, findings)
}

fn unquote(value: &str) -> Option<&str> {
    match value.strip_prefix('"') {
        Some(rest) => rest.strip_suffix('"').filter(|inner| !inner.contains('"')),
        None => Some(value.split('#').next().unwrap_or_default().trim_end()),
    }
}

/// Lines with the offset of their first byte.
pub(super) fn lines(text: &str) -> impl Iterator<Item = (usize, &str)> {
    let mut start = 0;
    text.split_inclusive('\n').map(move |line| {
        let at = start;
        start += line.len();
        (at, line.trim_end_matches(['\n', '\r']))
    })
}

/// A line of a secrets file: what stands before ` : PSK ` and what after it.
pub(super) struct SecretLine<'a> {
    pub identities: Vec<&'a str>,
    pub secret: &'a str,
    pub span: Span,
}

/// Reads a secrets file.
pub(super) fn parse_secrets<'a>(source: &'a Source, findings: &mut Vec<Finding>) -> Vec<SecretLine<'a>> {
    let mut entries = Vec::new();
    for (start, line) in lines(source.text()) {
        let body = line.trim();
        if body.is_empty() || body.starts_with('#') {
            continue;
        }
        let span = Span { start, end: start + line.len() };
        match body.split_once(" : PSK ") {
            Some((ids, secret)) => entries.push(SecretLine { identities: ids.split_whitespace().collect(), secret: secret.trim(), span }),
            None => findings
                .push(Finding::new(&rules::DEVICE_UNKNOWN, "a secrets entry of a kind that is not understood").at(source.place(span))),
        }
    }
    entries
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn read(text: &str) -> (Vec<Section>, usize) {
        let (sections, findings) = parse(&Source::new("f", text));
        (sections, findings.len())
    }

    #[test]
    fn sections_settings_and_comments() {
        let (sections, findings) = read("# c\nconn a\n\tb=c\n  # d\n\te = \"f g\"\n\nconfig setup\n");
        assert_eq!(findings, 0);
        assert_eq!(sections.len(), 2);
        assert_eq!(sections[0].get("e").map(|v| v.value.as_str()), Some("f g"));
    }

    #[test]
    fn what_cannot_be_read_is_reported() {
        for text in ["nonsense", "\tb=c", "conn a\n\tb", "conn a\n\tb=\"c"] {
            assert_eq!(read(text).1, 1, "{text}");
        }
    }

    proptest! {
        #[test]
        fn quoting_round_trips(value in "[ -!#-~äß]{1,40}") {
            let text = format!("conn a\n\tk={}\n", quote(&value).expect("sayable"));
            let (sections, findings) = read(&text);
            prop_assert_eq!(findings, 0);
            prop_assert_eq!(&sections[0].get("k").expect("k").value, &value);
        }

        #[test]
        fn any_text_is_survived(text in "[cons =\"#\t\n:é]{0,200}") {
            let source = Source::new("f", text);
            let _ = parse(&source);
            let _ = parse_secrets(&source, &mut Vec::new());
        }
    }
}
