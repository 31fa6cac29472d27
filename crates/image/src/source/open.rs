//! Packed bytes, from wherever they are.

use std::path::Path;
use std::sync::Arc;

use super::Opened;
use crate::fetch::{FetchOptions, Remote};
use crate::packed::{self, FolderFault, PackedBytes};
use crate::{Location, OpenError, StreamError};

/// Opens a file, with the pieces around it, or a folder of pieces.
pub(crate) fn open_path(path: &Path) -> Result<Opened, OpenError> {
    let is_folder = std::fs::metadata(path).is_ok_and(|facts| facts.is_dir());
    let pieces = |why| OpenError::Pieces {
        path: path.to_owned(),
        why,
    };
    let found = if is_folder {
        Some(packed::find_in_folder(path).map_err(|fault| match fault {
            FolderFault::Pieces(why) => pieces(why),
            FolderFault::NotOne(names) => OpenError::Folder {
                path: path.to_owned(),
                names,
            },
            FolderFault::Io(source) => OpenError::Io {
                path: path.to_owned(),
                source,
            },
        })?)
    } else {
        packed::find_around(path).map_err(pieces)?
    };
    let Some(found) = found else {
        let files = packed::Files::open(path)?;
        packed::check_alone(path, &files).map_err(pieces)?;
        return Ok(Opened {
            name: Location::Path(path.to_owned()).name(),
            packed: Arc::new(files),
            remote: None,
        });
    };
    let files = packed::Files::open_all(&found.paths)?;
    let packed = if found.is_zip {
        packed::join_zip(files, &found.name).map_err(pieces)?
    } else {
        Arc::new(files)
    };
    Ok(Opened {
        name: found.name,
        packed,
        remote: None,
    })
}

/// Opens a file on a server.
pub(crate) fn open_url(
    location: &Location,
    url: &str,
    options: &FetchOptions,
) -> Result<Opened, OpenError> {
    let remote = Remote::open(url, options).map_err(|error| OpenError::Stream {
        path: location.to_string().into(),
        source: StreamError::from_io(error),
    })?;
    let remote = Arc::new(remote);
    Ok(Opened {
        name: location.name(),
        packed: Arc::clone(&remote) as Arc<dyn PackedBytes>,
        remote: Some(remote),
    })
}
