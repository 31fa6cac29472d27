//! Editing a text in place.

use super::{Edit, EditFault, Files, FilesError, MAX_TEXT, Rights, TextKind, edit_text_as};

/// Why a text was not edited.
#[derive(Debug, thiserror::Error)]
pub enum EditTextError {
    /// The edit does not fit the text.
    #[error(transparent)]
    Fault(EditFault),
    /// The text could not be read or put back.
    #[error(transparent)]
    Files(#[from] FilesError),
}

impl Files<'_> {
    /// Edits a text, which keeps its owner and rights. With `keep_original`, the original stays
    /// beside the new one, with `.orig` added to its name. Returns the change in unified form,
    /// `None` if there is none.
    ///
    /// # Errors
    /// [`EditTextError`].
    pub fn edit(
        &mut self,
        path: &str,
        edit: &Edit,
        kind: Option<TextKind>,
        keep_original: bool,
    ) -> Result<Option<String>, EditTextError> {
        let old = self.read(path, MAX_TEXT)?;
        let old = old.ok_or_else(|| FilesError::NotFound(path.to_owned()))?;
        let new = match edit_text_as(&old, std::slice::from_ref(edit), kind) {
            Ok(new) if new == old => return Ok(None),
            Ok(new) => new,
            Err(fault) => return Err(EditTextError::Fault(fault)),
        };
        let original = format!("{path}.orig");
        if keep_original && !self.has_name(&original)? {
            let rights = self.rights(path)?.unwrap_or(Rights::root(0o644));
            self.put(&original, rights, &old)?;
        }
        let attributes = self.own_attributes(path)?;
        self.put_with(path, &attributes, new.len() as u64, &mut &*new)?;
        Ok(Some(crate::text_diff(&old, &new)))
    }
}
