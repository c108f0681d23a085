//! Durations with units, as descriptions, daemons and people write them.

use std::time::Duration;

/// The units of descriptions with their seconds, the largest first.
const UNITS: [(char, u64); 4] = [('d', 86_400), ('h', 3_600), ('m', 60), ('s', 1)];

/// Reads one number and its unit: `3600s`, `90m`, `8h`, `1d`.
pub fn parse_one_unit(text: &str) -> Option<Duration> {
    let unit = text.chars().last()?;
    let (_, size) = UNITS.into_iter().find(|(known, _)| *known == unit)?;
    let number = &text[..text.len() - 1];
    if number.is_empty() || !number.bytes().all(|b| b.is_ascii_digit()) {
        return None;
    }
    number.parse::<u64>().ok()?.checked_mul(size).map(Duration::from_secs)
}

/// Reads numbers with their units, the larger ones first: `8h`, `4h24m`, `1d12h`.
pub fn parse_duration(text: &str) -> Option<Duration> {
    let (mut sum, mut rest, mut before) = (Duration::ZERO, text, u64::MAX);
    loop {
        let end = rest.find(|c: char| !c.is_ascii_digit())? + 1;
        let part = rest.get(..end)?;
        let unit = part.chars().last()?;
        let (_, size) = UNITS.into_iter().find(|(known, size)| *known == unit && *size < before)?;
        (sum, before) = (sum.checked_add(parse_one_unit(part)?)?, size);
        rest = &rest[end..];
        if rest.is_empty() {
            return Some(sum);
        }
    }
}

/// Writes a duration in as few units as it takes: `8h`, `4h24m`, `3661s` is `1h1m1s`.
pub fn duration_words(duration: Duration) -> String {
    let mut seconds = duration.as_secs();
    if seconds == 0 {
        return "0s".to_owned();
    }
    let mut words = String::new();
    for (unit, size) in UNITS {
        if seconds >= size {
            words.push_str(&(seconds / size).to_string());
            words.push(unit);
            seconds %= size;
        }
    }
    words
}

/// Words for units, as people write them.
const USUAL: [(&[&str], u64); 5] = [
    (&["w", "week", "weeks"], 604_800),
    (&["d", "day", "days"], 86_400),
    (&["h", "hr", "hrs", "hour", "hours"], 3_600),
    (&["m", "min", "mins", "minute", "minutes"], 60),
    (&["s", "sec", "secs", "second", "seconds"], 1),
];

/// Reads a duration as people write it: `480 minutes`, `8 hours`, `1 h 30 min`, `28,800 s`; a number alone is seconds. What stands in
/// brackets behind it says the same again.
pub fn usual_duration(text: &str) -> Option<Duration> {
    let (main, again) = match text.split_once('(') {
        Some((main, again)) => (main, Some(again.trim_end().strip_suffix(')')?)),
        None => (text, None),
    };
    let found = parts(main)?;
    match again {
        Some(again) if parts(again.trim_start_matches(['=', '~', ' '])) != Some(found) => None,
        _ => Some(found),
    }
}

fn parts(text: &str) -> Option<Duration> {
    // A comma or an apostrophe before three digits parts thousands.
    let lower = text.trim().to_lowercase();
    let bytes = lower.as_bytes();
    let digit = |at: usize| bytes.get(at).is_some_and(u8::is_ascii_digit);
    let parts_thousands = |at: usize| at > 0 && digit(at - 1) && (1..=3).all(|ahead| digit(at + ahead)) && !digit(at + 4);
    let plain: String = lower.char_indices().filter(|(at, c)| !(matches!(c, ',' | '\'') && parts_thousands(*at))).map(|(_, c)| c).collect();
    let (mut sum, mut rest, mut any) = (0_u64, plain.as_str(), false);
    loop {
        rest = rest.trim_start_matches([' ', ',', '\u{a0}']).trim_start_matches("and ").trim_start();
        if rest.is_empty() {
            return any.then(|| Duration::from_secs(sum));
        }
        let digits = rest.find(|c: char| !c.is_ascii_digit()).unwrap_or(rest.len());
        let number: u64 = rest[..digits].parse().ok()?;
        let behind = rest[digits..].trim_start_matches([' ', '\u{a0}', '-']);
        let letters = behind.find(|c: char| !c.is_ascii_alphabetic()).unwrap_or(behind.len());
        let unit = &behind[..letters];
        let size = match unit {
            // Seconds are all that it says.
            "" if !any && behind.is_empty() => 1,
            _ => USUAL.iter().find(|(words, _)| words.contains(&unit))?.1,
        };
        sum = sum.checked_add(number.checked_mul(size)?)?;
        rest = behind[letters..].trim_start_matches('.');
        any = true;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn durations_need_units_that_get_smaller() {
        for (good, seconds) in [("90m", 5_400), ("1d", 86_400), ("4h24m", 15_840), ("1d2h3m4s", 93_784)] {
            assert_eq!(parse_duration(good), Some(Duration::from_secs(seconds)), "{good}");
        }
        for bad in ["", "90", "h", "-1h", "1.5h", "1w", "1 h", "24m4h", "1h1h", "1h30", "99999999999999999999d", "٣h", "3é"] {
            assert_eq!(parse_duration(bad), None, "{bad}");
            assert_eq!(parse_one_unit(bad), None, "{bad}");
        }
        assert_eq!(parse_one_unit("4h24m"), None);
    }

    #[test]
    fn durations_are_written_as_people_say_them() {
        for (seconds, words) in [(3_600, "1h"), (5_400, "1h30m"), (86_400, "1d"), (61, "1m1s"), (0, "0s"), (15_840, "4h24m")] {
            assert_eq!(duration_words(Duration::from_secs(seconds)), words);
        }
    }

    #[test]
    fn what_people_write_is_understood() {
        for (text, seconds) in [
            ("480 minutes", 28_800),
            ("480 min", 28_800),
            ("8 hours", 28_800),
            ("8h", 28_800),
            ("28800", 28_800),
            ("28,800 seconds", 28_800),
            ("86 400", 0),
            ("1 day", 86_400),
            ("24 hrs.", 86_400),
            ("1 h 30 min", 5_400),
            ("1 hour and 30 minutes", 5_400),
            ("3600s (1 h)", 3_600),
            ("3600 (60 minutes)", 3_600),
            ("3600 (2 h)", 0),
            ("8-hour", 28_800),
            ("a while", 0),
            ("", 0),
        ] {
            assert_eq!(usual_duration(text), Some(Duration::from_secs(seconds)).filter(|found| !found.is_zero()), "{text}");
        }
    }

    proptest! {
        #[test]
        fn words_mean_what_they_were_written_for(seconds in 0..10_000_000_u64) {
            let words = duration_words(Duration::from_secs(seconds));
            prop_assert_eq!(parse_duration(&words), Some(Duration::from_secs(seconds)));
            prop_assert_eq!(usual_duration(&words), Some(Duration::from_secs(seconds)));
        }

        #[test]
        fn any_text_is_survived(text in "([0-9]{1,6}|[a-z]{1,4}|[ ,'().é-]){0,9}") {
            let _ = (parse_duration(&text), usual_duration(&text), parse_one_unit(&text));
        }
    }
}
