//! `uspan secret --pair` and `--for-lab`: keys and certificates.

use std::path::Path;

use crate::args::Supply;
use crate::failure::{CommandOutcome, Failure};
use crate::files::{authority, input, keys, single};
use crate::show::{path_shown, path_word};

/// Makes a pair of keys.
pub fn pair(file: &Path, replace: bool) -> Result<CommandOutcome, Failure> {
    let public_file = file.with_extension("pub");
    if public_file == file {
        return Err(Failure::Usage("the private key would get the name of the public one: choose another ending than `.pub`".to_owned()));
    }
    single::vacant(file, replace)?;
    single::vacant(&public_file, replace)?;
    let key = keys::generate()?;
    single::secret(file, keys::private_pem(&key).trim_end().as_bytes(), replace)?;
    single::text(&public_file, &keys::public_pem(&key), replace)?;
    super::print_line(&format!(
        "A key on the curve P-384 in {}, mode 0600; its public part, for the peers, in {}. Next: name both in the site's `keys`",
        path_shown(file),
        path_shown(&public_file)
    ))?;
    Ok(CommandOutcome::Fine)
}

/// Makes what the sites of a description need for the lab to prove themselves by certificates.
pub fn for_lab(file: &Path, replace: bool) -> Result<CommandOutcome, Failure> {
    let read = input::read(file, &Supply::default())?;
    let Some(description) = read.description else {
        return super::stopped(&read.findings, &read.source, crate::args::Format::Text, serde_json::json!({}), "Nothing was written");
    };
    let folder = file.parent().unwrap_or(Path::new(""));
    for name in authority::certify(&description, folder, replace)? {
        super::print_line(&format!("made {}", path_shown(&folder.join(name))))?;
    }
    super::print_line(&format!(
        "For the lab, and for 90 days: the authority's key is forgotten already. Next: uspan prove {}",
        path_word(file)
    ))?;
    Ok(CommandOutcome::Fine)
}
