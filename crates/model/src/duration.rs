//! Durations with a unit, as descriptions and the daemons here write them.

use std::time::Duration;

/// Reads `3600s`, `90m`, `8h`, `1d`.
pub fn parse_duration(text: &str) -> Option<Duration> {
    let unit = match text.as_bytes().last()? {
        b's' => 1,
        b'm' => 60,
        b'h' => 3_600,
        b'd' => 86_400,
        _ => return None,
    };
    let number = &text[..text.len() - 1];
    if number.is_empty() || !number.bytes().all(|b| b.is_ascii_digit()) {
        return None;
    }
    number.parse::<u64>().ok()?.checked_mul(unit).map(Duration::from_secs)
}

/// Writes a duration in the largest unit that divides it.
pub fn duration_words(duration: Duration) -> String {
    let seconds = duration.as_secs();
    for (unit, size) in [("d", 86_400), ("h", 3_600), ("m", 60)] {
        if seconds >= size && seconds.is_multiple_of(size) {
            return (seconds / size).to_string() + unit;
        }
    }
    seconds.to_string() + "s"
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn durations_need_a_unit() {
        assert_eq!(parse_duration("90m"), Some(Duration::from_secs(5_400)));
        assert_eq!(parse_duration("1d"), Some(Duration::from_secs(86_400)));
        for bad in ["", "90", "h", "-1h", "1.5h", "1w", "1 h", "99999999999999999999d", "٣h"] {
            assert_eq!(parse_duration(bad), None, "{bad}");
        }
    }

    #[test]
    fn durations_are_written_in_their_largest_unit() {
        for (seconds, words) in [(3_600, "1h"), (5_400, "90m"), (86_400, "1d"), (61, "61s"), (0, "0s")] {
            assert_eq!(duration_words(Duration::from_secs(seconds)), words);
        }
    }
}
