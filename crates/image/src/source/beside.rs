//! Small files beside an image: in its folder, on its server, in its archive.

use std::fs::File;
use std::io::Read;
use std::sync::Arc;

use super::ImageSource;
use crate::Wrapping;
use crate::archive::{self, ArchiveInput};

/// The largest file beside the image to read, in bytes.
const MAX_BESIDE: u64 = 1 << 20;

impl ImageSource {
    /// The content of a small file in the server's folder; `None` for local files, or if there is
    /// none.
    pub(crate) fn fetch_beside(&self, name: &str) -> Option<String> {
        self.remote.as_ref()?.read_sibling(name)
    }

    /// A small file that lies beside the source, in its folder or on its server; `None` if there is
    /// none.
    pub fn small_file_beside(&self, name: &str) -> Option<Vec<u8>> {
        if let Some(remote) = &self.remote {
            return remote.read_sibling_bytes(name);
        }
        let path = self.location().path()?;
        let folder = if path.is_dir() { path } else { path.parent()? };
        let mut bytes = Vec::new();
        let file = File::open(folder.join(name)).ok()?;
        file.take(MAX_BESIDE).read_to_end(&mut bytes).ok()?;
        Some(bytes)
    }

    /// The content of a small file that lies beside the image in the outermost archive; `None` if
    /// there is none with that name, or if reading it would unpack the image first.
    pub(crate) fn read_beside(&self, name: &str) -> Option<String> {
        let layer = self.layers.first()?;
        let index = layer.others.iter().position(|other| other.name == name)?;
        let other = &layer.others[index];
        let small = other.size.is_some_and(|size| size <= MAX_BESIDE);
        if !small || (layer.wrapping == Wrapping::SevenZip && index >= layer.before) {
            return None;
        }
        let outermost = Self {
            inner: None,
            ..self.clone()
        };
        let input = if outermost.reads_by_itself() {
            ArchiveInput::File(outermost.cursor(&Arc::default())?)
        } else {
            ArchiveInput::Stream(Box::new(self.packed_reader()))
        };
        let mut text = String::new();
        let content = archive::open(layer.wrapping, input, other.name.clone());
        content.take(MAX_BESIDE).read_to_string(&mut text).ok()?;
        Some(text)
    }
}
