//! Puts a file or folder into a FAT file system: `fill IMAGE PATH`. For measuring; see
//! `scripts/bench-fat.sh`.

use std::error::Error;
use std::fs::{self, File, OpenOptions};
use std::path::Path;

use pinewrit_disk::{BlockDevice, CacheUse, FileDevice, SectorSize};
use pinewrit_fat::{Editor, Placement};

fn main() -> Result<(), Box<dyn Error>> {
    let mut args = std::env::args().skip(1);
    let (Some(image), Some(from)) = (args.next(), args.next()) else {
        return Err("fill IMAGE PATH".into());
    };
    let file = OpenOptions::new().read(true).write(true).open(image)?;
    let size = file.metadata()?.len();
    let device = FileDevice::new(file, size, SectorSize::B512, CacheUse::Cached);
    let mut editor = Editor::open(device)?;
    let from = Path::new(&from);
    let name = from.file_name().unwrap_or_default().to_string_lossy();
    put(&mut editor, from, &format!("/{name}"))?;
    editor.commit()?;
    Ok(())
}

fn put<D: BlockDevice>(
    editor: &mut Editor<D>,
    from: &Path,
    to: &str,
) -> Result<(), Box<dyn Error>> {
    let facts = fs::metadata(from)?;
    if !facts.is_dir() {
        let mut content = File::open(from)?;
        editor.write_file(to, facts.len(), &mut content, 0, Placement::Usual)?;
        return Ok(());
    }
    editor.make_folder(to, 0)?;
    for entry in fs::read_dir(from)? {
        let entry = entry?;
        let name = entry.file_name();
        put(
            editor,
            &entry.path(),
            &format!("{to}/{}", name.to_string_lossy()),
        )?;
    }
    Ok(())
}
