//! Packs the demo's folder, so that it is compiled in.

use std::error::Error;
use std::fs::{self, File};
use std::path::{Path, PathBuf};

use tar::{Builder, EntryType, Header, HeaderMode};

fn main() -> Result<(), Box<dyn Error>> {
    let folder = Path::new("../../demo");
    println!("cargo::rerun-if-changed={}", folder.display());
    let out = PathBuf::from(std::env::var("OUT_DIR")?).join("demo.tar");
    let mut archive = Builder::new(File::create(out)?);
    // The same bytes whoever checked it out.
    archive.mode(HeaderMode::Deterministic);
    add(&mut archive, folder, Path::new(""))?;
    archive.finish()?;
    Ok(())
}

fn add(archive: &mut Builder<File>, folder: &Path, inside: &Path) -> Result<(), Box<dyn Error>> {
    let mut names: Vec<_> = fs::read_dir(folder)?
        .map(|entry| entry.map(|entry| entry.file_name()))
        .collect::<Result<_, _>>()?;
    names.sort();
    for name in names {
        let (path, inside) = (folder.join(&name), inside.join(&name));
        if path.is_dir() {
            let mut header = Header::new_gnu();
            header.set_entry_type(EntryType::Directory);
            header.set_mode(0o755);
            header.set_size(0);
            archive.append_data(&mut header, &inside, std::io::empty())?;
            add(archive, &path, &inside)?;
        } else {
            archive.append_path_with_name(&path, &inside)?;
        }
    }
    Ok(())
}
