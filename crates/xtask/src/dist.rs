//! Man pages and completions, made from the program's own arguments.

use std::fs;
use std::path::Path;

use clap_complete::Shell;

use crate::Done;

/// Writes all of them below `folder`.
pub(crate) fn write(folder: &Path) -> Done {
    let (man, completions) = (folder.join("man"), folder.join("completions"));
    fs::create_dir_all(&man)?;
    fs::create_dir_all(&completions)?;
    clap_mangen::generate_to(pinewrit_cli::command(), &man)?;
    for shell in [Shell::Bash, Shell::Zsh, Shell::Fish] {
        let mut command = pinewrit_cli::command();
        clap_complete::generate_to(shell, &mut command, "pinewrit", &completions)?;
    }
    let pages = fs::read_dir(&man)?.count();
    Ok(format!(
        "{pages} man pages and completions for bash, zsh and fish are in {}",
        folder.display()
    ))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_command_has_a_page_and_completions() -> Result<(), Box<dyn std::error::Error>> {
        let folder = tempfile::tempdir()?;
        write(folder.path())?;
        let read = |name: &str| fs::read_to_string(folder.path().join(name));
        assert!(read("man/pinewrit-files-put.1")?.contains("PLACE"));
        assert!(read("man/pinewrit.1")?.contains("\\-\\-rack"));
        for name in ["pinewrit.bash", "_pinewrit", "pinewrit.fish"] {
            let text = read(&format!("completions/{name}"))?;
            assert!(
                text.contains("only-changes") && text.contains("rack"),
                "{name}"
            );
        }
        Ok(())
    }
}
