//! What the tool has to say about its input: findings, and the catalogue they come from.
//!
//! A finding is the user's affair (a mistake or a risk in a description or a configuration).
//! Failures of the outside world belong to the command line; bugs panic.

mod rules;

pub use rules::*;

use crate::source::Place;
use crate::trade::trade_word;

/// How much a finding weighs.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Severity {
    /// Worth knowing; changes nothing.
    Note,
    /// Works, but is probably not what was meant, or is a risk.
    Warning,
    /// Stops the work.
    Error,
}

impl Severity {
    /// The word shown to the user.
    pub fn word(self) -> &'static str {
        match self {
            Severity::Note => "note",
            Severity::Warning => "warning",
            Severity::Error => "error",
        }
    }
}

/// One row of the catalogue. Codes are permanent and never reused.
#[derive(Debug, PartialEq, Eq)]
pub struct Rule {
    /// `US` and three digits; the first digit names the chapter.
    pub code: &'static str,
    /// A short name in kebab case.
    pub name: &'static str,
    /// How much it weighs.
    pub severity: Severity,
    /// What is looked for.
    pub what: &'static str,
    /// Why it matters in practice.
    pub why: &'static str,
    /// What to do about it.
    pub remedy: &'static str,
}

/// A finding: a rule that applies at a place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    /// The catalogue row.
    pub rule: &'static Rule,
    /// Where, if it stands anywhere.
    pub place: Option<Place>,
    /// What is wrong, in the trade's words.
    pub message: String,
    /// What to do about it, here.
    pub remedy: String,
    /// Other places that belong to it, each with a few words.
    pub related: Vec<(Place, String)>,
}

impl Finding {
    /// A finding without a place, with the rule's own remedy.
    pub fn new(rule: &'static Rule, message: impl Into<String>) -> Self {
        Finding { rule, place: None, message: message.into(), remedy: rule.remedy.to_owned(), related: Vec::new() }
    }

    /// The same finding at a place.
    pub fn at(mut self, place: Place) -> Self {
        self.place = Some(place);
        self
    }

    /// The same finding with a remedy for this very case.
    pub fn remedy(mut self, remedy: impl Into<String>) -> Self {
        self.remedy = remedy.into();
        self
    }

    /// The same finding with another place that belongs to it.
    pub fn with(mut self, place: Place, label: impl Into<String>) -> Self {
        self.related.push((place, label.into()));
        self
    }

    /// Whether it stops the work.
    pub fn stops(&self) -> bool {
        self.rule.severity == Severity::Error
    }
}

/// Whether any of the findings stops the work.
pub fn any_stops(findings: &[Finding]) -> bool {
    findings.iter().any(Finding::stops)
}

/// Orders findings as a reader meets them: by place, then code; those without a place last.
pub fn in_reading_order(findings: &mut [Finding]) {
    findings.sort_by(|a, b| (a.place.is_none(), &a.place, a.rule.code).cmp(&(b.place.is_none(), &b.place, b.rule.code)));
}

/// The row with this code or name.
pub fn rule(code_or_name: &str) -> Option<&'static Rule> {
    CATALOGUE.iter().copied().find(|rule| rule.code.eq_ignore_ascii_case(code_or_name) || rule.name == code_or_name)
}

/// The reference page of all findings as Markdown.
pub fn finding_reference() -> String {
    use std::fmt::Write as _;
    const CHAPTERS: [(&str, &str); 9] = [
        ("US1", "The description as a file"),
        ("US2", "Sites, addresses, networks"),
        ("US3", "Tunnels"),
        ("US4", "Algorithms and the agreement"),
        ("US5", "Identities and secrets"),
        ("US6", "What a platform cannot say"),
        ("US7", "What was written, read back"),
        ("US8", "Files of a gateway"),
        ("US9", "The output folder"),
    ];
    let mut page = String::from("# Findings\n\nGenerated from the catalogue; do not edit. Codes are permanent.\n");
    for (lead, title) in CHAPTERS {
        let _ = writeln!(page, "\n## {title}");
        for rule in CATALOGUE.iter().filter(|rule| rule.code.starts_with(lead)) {
            let _ = writeln!(page, "\n### {} {} ({})\n{}", rule.code, rule.name, rule.severity.word(), rule.what);
            let _ = writeln!(page, "\n- Why: {}\n- Do: {}", rule.why, rule.remedy);
        }
    }
    page
}

/// The known word nearest to a mistyped one, if any is near enough to be meant.
pub fn nearest<'a>(word: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let word = word.to_lowercase();
    known
        .into_iter()
        .map(|candidate| (strsim::damerau_levenshtein(&word, &candidate.to_lowercase()), candidate))
        .filter(|(distance, candidate)| *distance <= 1 + candidate.len().max(word.len()) / 4)
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, candidate)| candidate)
}

/// More choices than that nobody reads: a few stand for all.
const LISTED: usize = 40;
const EXAMPLES: usize = 3;

/// The same for a key of a description: the trade's word for it leads to it, too.
pub fn key_suggestion<'a>(word: &str, known: impl IntoIterator<Item = &'a str> + Clone) -> String {
    match (nearest(word, known.clone()), trade_word(word)) {
        // One letter is mistyped sooner than another word is meant.
        (Some(near), _) if strsim::damerau_levenshtein(word, near) <= 1 => format!("did you mean `{near}`?"),
        (_, Some(trade)) => format!("that is `{}`: {}.", trade.ours, trade.says),
        _ => suggestion(word, known),
    }
}

/// `did you mean` in words, or the list of what there is.
pub fn suggestion<'a>(word: &str, known: impl IntoIterator<Item = &'a str> + Clone) -> String {
    match nearest(word, known.clone()) {
        Some(near) => format!("did you mean `{near}`?"),
        None => {
            let all = known.clone().into_iter().count();
            let some = if all > LISTED { EXAMPLES } else { all };
            let list = known.into_iter().take(some).map(|k| format!("`{k}`")).collect::<Vec<_>>().join(", ");
            match all {
                0 => "there is none to choose from yet".to_owned(),
                _ if some < all => format!("choose one of the {all} that are there, such as {list}"),
                _ => format!("choose one of {list}"),
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn catalogue_is_sorted_and_unique() {
        for pair in CATALOGUE.windows(2) {
            assert!(pair[0].code < pair[1].code, "{} before {}", pair[0].code, pair[1].code);
        }
        let mut names: Vec<_> = CATALOGUE.iter().map(|r| r.name).collect();
        names.sort_unstable();
        names.dedup();
        assert_eq!(names.len(), CATALOGUE.len());
    }

    #[test]
    fn every_row_says_what_why_and_what_to_do() {
        for rule in CATALOGUE {
            assert_eq!(rule.code.len(), 5, "{}", rule.code);
            for text in [rule.what, rule.why, rule.remedy] {
                assert!(text.len() >= 10 && text.ends_with('.'), "{}: {text}", rule.code);
            }
        }
    }

    #[test]
    fn the_reference_page_is_current() {
        // Make it with `uspan explain --reference > docs/reference/findings.md`.
        assert_eq!(include_str!("../../../../docs/reference/findings.md"), finding_reference());
    }

    /// Codes that a release has published: a row may be reworded, never renumbered or dropped.
    #[test]
    fn published_codes_stay() {
        insta::assert_snapshot!(CATALOGUE.iter().map(|r| format!("{} {}", r.code, r.name)).collect::<Vec<_>>().join("\n"));
    }

    #[test]
    fn near_words_are_suggested_far_ones_are_listed() {
        assert_eq!(suggestion("plattform", ["platform", "gateway"]), "did you mean `platform`?");
        assert_eq!(key_suggestion("dpd", ["liveness", "pfs"]).split(':').next(), Some("that is `liveness`"));
        assert_eq!(key_suggestion("carry", ["carries", "services"]).split(':').next(), Some("that is `carries`"));
        assert_eq!(key_suggestion("strenght", ["strength"]), "did you mean `strength`?");
        assert_eq!(suggestion("zzz", ["a-word", "b-word"]), "choose one of `a-word`, `b-word`");
        let many: Vec<String> = (100..1100).map(|number| format!("word-{number}")).collect();
        let hint = suggestion("zzz", many.iter().map(String::as_str));
        assert_eq!(hint, "choose one of the 1000 that are there, such as `word-100`, `word-101`, `word-102`");
    }
}
