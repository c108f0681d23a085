//! How hard a secret is to guess.

use std::collections::{BTreeSet, HashSet};

use uspan_core::Secret;
use zeroize::Zeroizing;

/// How many guesses a secret takes, as a decimal logarithm, if it is without doubt one that a machine drew: digits and letters of
/// both cases, or hexadecimal digits, without order. Whatever could be words is for the dictionaries.
pub fn drawn(secret: &Secret) -> Option<f64> {
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
    let repeated = bytes.windows(4).collect::<HashSet<_>>().len() < bytes.len() - 3;
    let ordered = bytes.windows(3).filter(|three| three[1].wrapping_sub(three[0]) == three[2].wrapping_sub(three[1])).count() > steps / 8;
    let distinct = bytes.iter().collect::<BTreeSet<_>>().len();
    let drawn = changes >= needed && !repeated && !ordered && distinct >= if hexadecimal { 8 } else { 20 };
    let length = f64::from(u32::try_from(bytes.len()).unwrap_or(u32::MAX));
    drawn.then_some(length * bits * std::f64::consts::LOG10_2)
}

/// How many guesses a secret takes, as a decimal logarithm, by somebody who knows these names. Bytes that are no text are judged by
/// their number alone.
pub fn guesses(secret: &Secret, names: &[&str]) -> f64 {
    const PIECE: usize = 8;
    let Ok(text) = std::str::from_utf8(secret.expose()) else {
        return f64::from(u32::try_from(secret.expose().len()).unwrap_or(u32::MAX)) * 2.4;
    };
    let whole = zxcvbn::zxcvbn(text, names);
    // The library counts up to 2^64. A secret that reaches that is judged by its pieces, which an
    // attacker would have to guess one with the other.
    let estimated = if whole.guesses() < u64::MAX {
        whole.guesses_log10()
    } else {
        let chars: Vec<char> = text.chars().collect();
        let pieces = chars.chunks(PIECE).map(|piece| Zeroizing::new(piece.iter().collect::<String>()));
        let sum: f64 = pieces.map(|piece| zxcvbn::zxcvbn(&piece, names).guesses_log10()).sum();
        sum.max(whole.guesses_log10())
    };
    words(text, names).map_or(estimated, |guesses| guesses.min(estimated))
}

/// The guesses for a word that is in no dictionary at hand, but in somebody's: one of 8,000, in whatever language. In a sentence it
/// is rather fewer.
const WORD: f64 = 3.9;
/// The guesses for a name that stands in the description.
const NAME: f64 = 1.5;

/// As many as there are letters to try.
fn short(length: usize) -> f64 {
    26_f64.log10() * f64::from(u32::try_from(length).unwrap_or(u32::MAX))
}

/// The longest letters that count as one word.
const LONGEST_WORD: usize = 14;

/// The guesses for a text that is made of words, whatever their language: for each word, and for each character between them. Nothing
/// where most of it is no words.
fn words(text: &str, names: &[&str]) -> Option<f64> {
    let (mut guesses, mut letters, mut count) = (0.0, 0, 0);
    let mut between = BTreeSet::new();
    for part in parts(text) {
        let length = part.chars().count();
        if is_word(part) {
            let at_hand = names.iter().any(|name| name.eq_ignore_ascii_case(part));
            guesses += if at_hand { NAME } else { WORD.min(short(length)) };
            letters += length;
            count += 1;
        } else if between.insert(part) {
            // What stands between all words is guessed once.
            guesses += zxcvbn::zxcvbn(part, names).guesses_log10();
        }
    }
    (count >= 3 && letters * 4 >= text.chars().count() * 3).then_some(guesses)
}

/// Runs of letters, each of which begins a new one with a capital behind a small one, and what stands between them.
fn parts(text: &str) -> Vec<&str> {
    let mut parts = Vec::new();
    let (mut start, mut last): (usize, Option<char>) = (0, None);
    for (at, c) in text.char_indices() {
        let apart = last.is_some_and(|last| last.is_alphabetic() != c.is_alphabetic() || (last.is_lowercase() && c.is_uppercase()));
        if apart {
            parts.push(&text[start..at]);
            start = at;
        }
        last = Some(c);
    }
    parts.push(&text[start..]);
    parts
}

/// Whether letters can be said: vowels among them, and never more than four other letters in a row.
fn is_word(part: &str) -> bool {
    let vowel = |c: char| "aeiouyäöüáéíóúàèìòùâêîôûåøæ".contains(c);
    let small: Vec<char> = part.to_lowercase().chars().collect();
    (2..=LONGEST_WORD).contains(&small.len())
        && small.iter().all(|c| c.is_alphabetic())
        && small.iter().copied().any(vowel)
        && small.split(|c| vowel(*c)).all(|others| others.len() <= 4)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn secret(text: &str) -> Secret {
        Secret::new(text.as_bytes().to_vec())
    }

    #[test]
    fn what_a_machine_drew_needs_no_dictionary_and_words_do() {
        for text in ["1f0c2b9a77e4d3056c8812fe9d0a4b63", "b2A9xQ7mLr0Zt5WkP1vEc8HsUy3NjGd6", "q8Zk2LmW7vXc4RtY1nBh9PsD3fGj6Aqe"] {
            assert!(drawn(&secret(text)).is_some(), "{text}");
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
            assert!(drawn(&secret(text)).is_none(), "{text}");
        }
    }

    /// 2^64 guesses are within reach, and 2^112 match the ciphers.
    #[test]
    fn sentences_of_any_language_and_names_at_hand_are_no_secrets() {
        let names = ["packhouse", "coldstore", "harvest", "alder", "creek", "orchards"];
        for text in ["AlderCreekOrchardsPackhouseColdstore", "harvest-packhouse-coldstore"] {
            assert!(guesses(&secret(text), &names) < 19.26, "{text}: {}", guesses(&secret(text), &names));
        }
        // Five words that were drawn are no sentence, and hold more than 2^64, though not 2^112.
        let drawn = guesses(&secret("grader basket cellar thirty owls"), &names);
        assert!((19.26..33.7).contains(&drawn), "{drawn}");
        for text in
            ["vierzehnter-oktober-im-oberen-stock", "wir-fahren-mit-dem-zug-nach-koblenz", "otaru-milvane-gesprekt-hollunda-vintre-capsola"]
        {
            assert!(guesses(&secret(text), &names) < 33.7, "{text}: {}", guesses(&secret(text), &names));
        }
        for text in ["hqkzjxvwpmbtrcdnsgflhqkz", "X7#pQ!9wLz@4vRt$2mKc"] {
            assert!(guesses(&secret(text), &names) > 19.26, "{text}: {}", guesses(&secret(text), &names));
        }
    }
}
