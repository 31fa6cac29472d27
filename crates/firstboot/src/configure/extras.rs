//! Files and changes to texts that the settings request besides the intake.

use pinewrit_settings::{CheckedSettings, EditOrRemoval, PlacedEdit, PlacedFile};
use pinewrit_volume::Site;
use pinewrit_volume::files::{
    EditTextError, Files, FilesError, FilesystemOf, FindError, MAX_TEXT, Place, Rights, above,
    find_place,
};

use super::{ChangeKind, ConfigureError, ConfigureReport, FileChange};

pub(super) fn apply(
    site: &mut Site<'_>,
    settings: &CheckedSettings,
    report: &mut ConfigureReport,
) -> Result<(), ConfigureError> {
    for file in &settings.files {
        let place = filesystem(site, &file.place, file.line)?;
        let change = site.change(&place, |files| put(files, file))?;
        report.files.push(change);
    }
    for edit in &settings.edits {
        let place = filesystem(site, &edit.place, edit.line)?;
        let change = site.change(&place, |files| change(files, edit))?;
        report.files.push(change);
    }
    Ok(())
}

fn filesystem(site: &Site<'_>, place: &Place, line: usize) -> Result<FilesystemOf, ConfigureError> {
    find_place(site.device, &place.partition).map_err(|error| match error {
        FindError::Disk(error) => error.into(),
        FindError::NotOne(_) => ConfigureError::Extra {
            line,
            what: format!("there is no file system at {place}"),
        },
    })
}

fn put(files: &mut Files<'_>, file: &PlacedFile) -> Result<FileChange, ConfigureError> {
    let path = &file.place.path;
    let old = files.small(path, MAX_TEXT)?;
    let is_there = files.has_name(path)?;
    let has_rights = !files.keeps_rights() || files.rights(path)? == Some(file.rights);
    let kind = match &old {
        None if !is_there => ChangeKind::New,
        Some(old) if *old == file.content && has_rights => ChangeKind::Same,
        _ => ChangeKind::Changed,
    };
    if kind != ChangeKind::Same {
        files.make_folders(above(path), Rights::root(0o755))?;
        files.put(path, file.rights, &file.content)?;
    }
    Ok(FileChange {
        path: file.place.to_string(),
        kind,
        // What others may not read is not shown on a screen either.
        hidden: file.rights.mode & 0o044 == 0,
        diff: match file.rights.mode & 0o044 {
            0 => String::new(),
            _ => pinewrit_volume::text_diff(&old.unwrap_or_default(), &file.content),
        },
    })
}

fn change(files: &mut Files<'_>, wanted: &PlacedEdit) -> Result<FileChange, ConfigureError> {
    let path = &wanted.place.path;
    let told = |kind, diff| FileChange {
        path: wanted.place.to_string(),
        kind,
        diff,
        hidden: false,
    };
    let edit = match &wanted.what {
        EditOrRemoval::Edit(edit) => edit,
        EditOrRemoval::Remove => {
            return if files.has_name(path)? {
                files.remove(path)?;
                Ok(told(ChangeKind::Removed, String::new()))
            } else {
                Ok(told(ChangeKind::Same, String::new()))
            };
        }
    };
    let wrong = |what: String| ConfigureError::Extra {
        line: wanted.line,
        what,
    };
    match files.edit(path, edit, wanted.kind, wanted.keep_original) {
        Ok(Some(diff)) => Ok(told(ChangeKind::Edited, diff)),
        Ok(None) => Ok(told(ChangeKind::Same, String::new())),
        // The second time, what should be removed is already gone.
        Err(EditTextError::Fault(fault)) if fault.is_absent(edit) => {
            Ok(told(ChangeKind::Same, String::new()))
        }
        Err(EditTextError::Fault(fault)) => Err(wrong(format!("{}: {fault}", wanted.place))),
        Err(EditTextError::Files(FilesError::NotFound(_))) => {
            Err(wrong(format!("there is no {}", wanted.place)))
        }
        Err(EditTextError::Files(error)) => Err(error.into()),
    }
}
