//! Arguments of `pinewrit estimate`.

use std::net::IpAddr;
use std::path::PathBuf;

use clap::{Args as ClapArgs, Subcommand, ValueHint};
use ipnet::IpNet;
use pinewrit_disk::parse_size;
use pinewrit_image::Location;
use pinewrit_settings::estimate::Pool;

use crate::{SourceArgs, location};

/// Do the arithmetic of this job
#[derive(Debug, ClapArgs)]
#[command(after_long_help = "Examples:\n  \
    pinewrit estimate time larkfell-os.img.xz --to K7F2\n  \
    pinewrit estimate time larkfell-os.img.xz --card 16GB@20MB/s --reader 480\n  \
    pinewrit estimate fit larkfell-os.img.xz\n  \
    pinewrit estimate net 10.77.3.0/24\n  \
    pinewrit estimate net 10.77.3.0/24 --pool 10.77.3.100-10.77.3.150 --with 10.77.4.0/23")]
pub struct EstimateArgs {
    #[command(subcommand)]
    pub action: EstimateAction,
}

#[derive(Debug, Subcommand)]
pub enum EstimateAction {
    /// Show how long writing an image will take, and what it waits for
    Time {
        /// Image in any wrapping: a file, its pieces, a medium, or a URL
        #[arg(value_name = "IMAGE", value_hint = ValueHint::FilePath, value_parser = location())]
        image: Location,
        #[command(flatten)]
        options: SourceArgs,
        /// The medium: its speed was measured, or it was written before
        #[arg(long, value_name = "MEDIUM", value_hint = ValueHint::FilePath, conflicts_with = "card", required_unless_present = "card")]
        to: Option<PathBuf>,
        /// Any medium of this size and speed; with its speed of reading: 16GB@20MB/s:90MB/s
        #[arg(long, value_name = "SIZE@WRITE", value_parser = card)]
        card: Option<CardSpeed>,
        /// In a reader on such a bus, in Mbit/s: 12, 480, 5000, 10000
        #[arg(long, value_name = "MBITS")]
        reader: Option<u32>,
        /// Without reading back
        #[arg(long)]
        no_verify: bool,
    },
    /// Show on which media an image fits, and what fills it
    Fit {
        /// Image in any wrapping: a file, its pieces, a medium, or a URL
        #[arg(value_name = "IMAGE", value_hint = ValueHint::FilePath, value_parser = location())]
        image: Location,
        #[command(flatten)]
        options: SourceArgs,
    },
    /// Show what fits in a network
    Net {
        /// The network, or an address in it, with its prefix
        #[arg(value_name = "CIDR", value_parser = cidr)]
        net: IpNet,
        /// First and last address of the DHCP pool
        #[arg(long, value_name = "A-B", value_parser = pool)]
        pool: Option<Pool>,
        /// Networks that must not overlap it
        #[arg(long, value_name = "CIDR", num_args = 1.., value_parser = cidr)]
        with: Vec<IpNet>,
    },
}

/// The size and speeds of a medium, in bytes and bytes a second.
#[derive(Clone, Copy, Debug)]
pub struct CardSpeed {
    pub size: u64,
    pub write: u64,
    pub read: Option<u64>,
}

fn card(text: &str) -> Result<CardSpeed, String> {
    let wrong = || "a size and a speed, such as 16GB@20MB/s or 16GB@20MB/s:90MB/s".to_owned();
    let speed = |text: &str| {
        let rate = parse_size(text.strip_suffix("/s").unwrap_or(text));
        rate.ok().filter(|&rate| rate > 0).ok_or_else(wrong)
    };
    let (size, speeds) = text.split_once('@').ok_or_else(wrong)?;
    let (write, read) = match speeds.split_once(':') {
        Some((write, read)) => (write, Some(speed(read)?)),
        None => (speeds, None),
    };
    Ok(CardSpeed {
        size: parse_size(size)?,
        write: speed(write)?,
        read,
    })
}

fn cidr(text: &str) -> Result<IpNet, String> {
    text.parse()
        .map_err(|_| "an address with its prefix, such as 10.77.3.0/24".to_owned())
}

fn pool(text: &str) -> Result<Pool, String> {
    let wrong = || "first and last address, such as 10.77.3.100-10.77.3.150".to_owned();
    let (first, last) = text.split_once('-').ok_or_else(wrong)?;
    let address = |text: &str| text.trim().parse::<IpAddr>().map_err(|_| wrong());
    Ok(Pool {
        first: address(first)?,
        last: address(last)?,
    })
}
