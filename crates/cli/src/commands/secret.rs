//! `uspan secret`.

use std::path::Path;

use crate::failure::{Failure, Verdict};
use crate::files::{keys, secret};

pub fn run(file: &Path, print: bool, replace: bool) -> Result<Verdict, Failure> {
    let text = secret::generate()?;
    secret::write(file, &text, replace)?;
    if print {
        super::print_line(&text)?;
    } else {
        super::print_line(&format!(
            "256 random bits in {}, mode 0600. Next: name it in the description: secret = {{ file = \"...\" }}",
            file.display()
        ))?;
    }
    Ok(Verdict::Fine)
}

/// Makes a pair of keys.
pub fn pair(file: &Path, replace: bool) -> Result<Verdict, Failure> {
    let public_file = file.with_extension("pub");
    if public_file == file {
        return Err(Failure::Usage("the private key would get the name of the public one: choose another ending than `.pub`".to_owned()));
    }
    if !replace && public_file.exists() {
        return Err(Failure::Usage(format!("`{}` is there already; --replace overwrites both", public_file.display())));
    }
    let (private, public) = keys::generate()?;
    secret::write(file, private.trim_end(), replace)?;
    secret::publish(&public_file, public.trim_end(), replace)?;
    super::print_line(&format!(
        "A key on the curve P-384 in {}, mode 0600; its public part, for the peers, in {}. Next: name both in the site's `keys`",
        file.display(),
        public_file.display()
    ))?;
    Ok(Verdict::Fine)
}
