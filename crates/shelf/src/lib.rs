//! The shelf: catalogues of images, a person's own and those that a team publishes.
//!
//! A catalogue says of each image where it is, what it is for, and how to recognise it. Nothing in
//! here opens an image or asks a server; `docs/formats.md` describes the file.
//!
//! ```
//! use pinewrit_shelf::{Base, Catalogue, ImageName, Shelf};
//!
//! let text = "[[image]]\nname = \"larkfell-os\"\nversion = \"2.10\"\nsource = \"os-2.10.img.xz\"\n\
//!             [[image]]\nname = \"larkfell-os\"\nversion = \"2.9\"\nsource = \"os-2.9.img.xz\"\n";
//! let catalogue = Catalogue::parse(text)?;
//! let shelf = Shelf::new(vec![(Base::of("https://larkfell.example/shelf.toml"), catalogue)]);
//! let found = shelf.find(&ImageName::parse("larkfell-os")?)?;
//! assert_eq!(found.image.version, "2.10");
//! assert_eq!(found.location().to_string(), "https://larkfell.example/os-2.10.img.xz");
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod base;
mod catalogue;
mod edit;
mod name;
mod shelf;
mod versions;

pub use base::Base;
pub use catalogue::{Catalogue, Follow, Image};
pub use edit::{EditError, add, follow, remove, stop_following};
pub use name::{ImageName, NameError};
pub use shelf::{Change, Found, NotFound, Shelf, changes};
pub use versions::{Order, order};

/// The largest catalogue that is read, in bytes.
pub const MAX_CATALOGUE: u64 = 4 << 20;
