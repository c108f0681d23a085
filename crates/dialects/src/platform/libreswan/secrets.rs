//! Reads the files of secrets, ipsec.secrets(5).

use super::statements::identity;
use super::syntax::parse_secrets;
use super::{FOLDER, SECRETS};
use uspan_model::finding::Finding;
use uspan_model::gateway::{Identity, Tree};
use uspan_model::secret::Secret;
use uspan_model::source::{Source, Span};

/// A secret of a file: nothing of it where it cannot be decoded.
pub(super) struct StatedSecret<'a> {
    pub path: &'a str,
    pub span: Span,
    pub identities: Vec<Identity>,
    pub secret: Option<Secret>,
}

/// The secrets of the files of secrets.
pub(super) fn stated_secrets<'a>(tree: &'a Tree, findings: &mut Vec<Finding>) -> Vec<StatedSecret<'a>> {
    let main = tree.files.get_key_value(SECRETS).map(|(path, file)| (path.as_str(), file));
    let mut all = Vec::new();
    for (path, file) in main.into_iter().chain(tree.in_folder(FOLDER, ".secrets")) {
        let source = Source::new(path, file.text.as_str());
        all.extend(parse_secrets(&source, findings).into_iter().map(|entry| StatedSecret {
            path,
            span: entry.span,
            identities: entry.identities.iter().filter_map(|text| identity(text)).collect(),
            secret: decode_secret(&entry.secret),
        }));
    }
    all
}

/// A secret as the daemon decodes it: in quotes literally, otherwise `0x` is hexadecimal.
fn decode_secret(text: &str) -> Option<Secret> {
    match text.strip_prefix("0x") {
        Some(digits) => Secret::from_hex(digits),
        None => {
            let inner = text.strip_prefix('"')?.strip_suffix('"')?;
            Some(Secret::new(inner.as_bytes().to_vec()))
        }
    }
}
