//! Words of commands that people paste into a shell (POSIX.1-2017, Shell Command Language, section 2.2).

use std::borrow::Cow;

/// A text as one word of a command, whatever characters it has.
pub fn quote(text: &str) -> Cow<'_, str> {
    let plain = |b: u8| b.is_ascii_alphanumeric() || b"._-/:@%+,".contains(&b);
    match !text.is_empty() && text.bytes().all(plain) {
        true => Cow::Borrowed(text),
        false => format!("'{}'", text.replace('\'', r"'\''")).into(),
    }
}

/// The path of a file as one word of a command, which no program takes for an option.
pub fn path(text: &str) -> Cow<'_, str> {
    match text.starts_with('-') {
        true => quote(&format!("./{text}")).into_owned().into(),
        false => quote(text),
    }
}

#[cfg(test)]
#[expect(clippy::disallowed_methods, reason = "a shell is asked")]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::process::Command;

    #[test]
    fn plain_words_stay_as_they_are() {
        assert_eq!(quote("out/packhouse"), "out/packhouse");
        assert_eq!(quote("a b"), "'a b'");
        assert_eq!(quote("it's"), r"'it'\''s'");
        assert_eq!(path("-rf"), "./-rf");
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 64, ..ProptestConfig::default() })]
        #[test]
        fn a_shell_sees_one_word_and_the_same(text in "[a-c $`\"'\\\\;&|<>(){}*?#~!\n\t=-]{0,20}") {
            let said = Command::new("sh").args(["-c", &format!("printf '%s|' {} end", quote(&text))]).output().expect("a shell");
            prop_assert_eq!(String::from_utf8_lossy(&said.stdout), format!("{text}|end|"));
        }
    }
}
