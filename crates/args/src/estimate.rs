//! Arguments of `pinewrit estimate`.

use std::net::IpAddr;

use clap::{Args as ClapArgs, Subcommand};
use ipnet::IpNet;
use pinewrit_settings::estimate::Pool;

/// Do the arithmetic of this job
#[derive(Debug, ClapArgs)]
#[command(after_long_help = "Examples:\n  \
    pinewrit estimate net 10.77.3.0/24\n  \
    pinewrit estimate net 10.77.3.0/24 --pool 10.77.3.100-10.77.3.150 --with 10.77.4.0/23")]
pub struct EstimateArgs {
    #[command(subcommand)]
    pub action: EstimateAction,
}

#[derive(Debug, Subcommand)]
pub enum EstimateAction {
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
