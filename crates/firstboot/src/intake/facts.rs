//! Settings found on a medium.

use schemars::JsonSchema;
use serde::Serialize;

/// First-boot settings found on a medium.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct SettingsFacts {
    /// The intake.
    pub intake: String,
    /// Number of the partition that holds them; `None` if the medium has no table.
    pub partition: Option<u32>,
    /// The host name that they set.
    pub host_name: Option<String>,
    /// The users that they create.
    pub users: Vec<String>,
    /// The networks that they set up: `eth0 10.77.3.10/24`, `wlan0 larkfell-valley`.
    pub networks: Vec<String>,
}
