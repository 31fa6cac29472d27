//! How long a write will take: what each link carries, and which one is the slowest.

use schemars::JsonSchema;
use serde::Serialize;

/// A link of the chain from the image to the medium.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Part {
    /// Comparing the packed image with its checksum, before anything else.
    Hash,
    /// Reading or fetching the image, and unpacking it.
    Unpack,
    /// Writing what is in use.
    Write,
    /// Reading it back, after everything is written.
    ReadBack,
}

/// What a link carries.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, JsonSchema)]
pub struct Link {
    /// Which one it is.
    pub part: Part,
    /// Bytes that go through it.
    pub bytes: u64,
    /// Bytes a second.
    pub rate: f64,
    /// How long it takes alone, in seconds.
    pub seconds: f64,
}

impl Link {
    /// So many bytes at this rate.
    pub fn new(part: Part, bytes: u64, rate: f64) -> Self {
        Self {
            part,
            bytes,
            rate,
            seconds: bytes as f64 / rate.max(1.0),
        }
    }
}

/// How long it takes.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct TimeEstimate {
    /// All links, in their order.
    pub links: Vec<Link>,
    /// All of it, in seconds.
    pub seconds: f64,
    /// The link that what is unpacked and written waits for.
    pub slowest: Part,
    /// What the next slowest link would allow, in seconds.
    pub without_it: f64,
}

impl TimeEstimate {
    /// Unpacking and writing run side by side; hashing comes before, reading back after.
    pub fn of(links: Vec<Link>) -> Self {
        let seconds = |wanted: Part| {
            let of = links.iter().filter(|link| link.part == wanted);
            of.map(|link| link.seconds).sum::<f64>()
        };
        let (unpack, write) = (seconds(Part::Unpack), seconds(Part::Write));
        let alone = seconds(Part::Hash) + seconds(Part::ReadBack);
        let slowest = if unpack > write {
            Part::Unpack
        } else {
            Part::Write
        };
        Self {
            seconds: alone + unpack.max(write),
            without_it: alone + unpack.min(write),
            slowest,
            links,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn side_by_side_the_slower_one_counts() {
        let links = vec![
            Link::new(Part::Hash, 100, 100.0),
            Link::new(Part::Unpack, 1000, 100.0),
            Link::new(Part::Write, 800, 40.0),
            Link::new(Part::ReadBack, 800, 80.0),
        ];
        let estimate = TimeEstimate::of(links);
        assert_eq!(estimate.slowest, Part::Write);
        assert!((estimate.seconds - 31.0).abs() < 1e-9);
        assert!((estimate.without_it - 21.0).abs() < 1e-9);
    }
}
