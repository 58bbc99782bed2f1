//! The arguments of `commands/pools.rs`.

use std::{path::PathBuf, time::Duration};

use super::values::{integer, moment, pair, processors, size};
use clap::{Args, Subcommand, ValueEnum};
use kesmo_core::time::Bytes;

#[derive(Debug, Subcommand)]
pub enum Pool {
    /// Describe a pool: how its workers come, and how many
    Add(Box<AddPool>),
    /// All pools
    List,
    /// One pool with its machines
    Show(ShowPool),
    /// Remove a pool: its machines take nothing new, and it goes with the last of them
    Remove(RemovePool),
}

/// How a pool's workers come.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Kind {
    /// Someone starts them
    Fixed,
    /// Containers, through a container engine's API
    Engine,
    /// Pods, through a cluster's API (Kubernetes)
    Cluster,
    /// Jobs that are asked of a CI server
    Ci,
}

#[derive(Debug, Args)]
pub struct AddPool {
    /// Its name: a-z, 0-9 and '-'
    pub name: String,
    /// How its workers come
    #[arg(long, value_name = "KIND")]
    pub kind: Kind,
    /// So many machines stay, also when nothing waits [default: 0]
    #[arg(long, value_name = "N", value_parser = integer::<u32>, help_heading = "How many")]
    pub least: Option<u32>,
    /// The most machines [default: 4]
    #[arg(long, value_name = "N", value_parser = integer::<u32>, help_heading = "How many")]
    pub most: Option<u32>,
    /// Slots of each machine [default: 2]
    #[arg(long, value_name = "N", value_parser = integer::<u16>, help_heading = "How many")]
    pub slots: Option<u16>,
    /// A machine that has had nothing to do for so long goes [default: 1m]
    #[arg(long, value_name = "TIME", value_parser = moment, help_heading = "How many")]
    pub idle: Option<Duration>,
    /// A fact about its machines that suites may need (repeatable)
    #[arg(long, value_name = "K=V", value_parser = pair)]
    pub offer: Vec<(String, String)>,
    /// Where its machines reach the service [else: where the service says that it is reached]
    #[arg(long, value_name = "URL")]
    pub machines_reach: Option<String>,
    /// The worker image: its entry point is kesmo
    #[arg(long, value_name = "IMAGE", help_heading = "Containers and pods")]
    pub image: Option<String>,
    /// The engine, unix:///PATH on the service's machine or tcp://HOST:PORT [else: the first that answers there]
    #[arg(long, value_name = "ADDRESS", help_heading = "Containers and pods")]
    pub engine: Option<String>,
    /// A folder on the service's machine with ca.pem, cert.pem and key.pem, for tcp://
    #[arg(long, value_name = "FOLDER", help_heading = "Containers and pods")]
    pub certificates: Option<String>,
    /// host, or a network of the engine [default: host]
    #[arg(long, value_name = "NETWORK", help_heading = "Containers and pods")]
    pub network: Option<String>,
    /// Memory that each container may use
    #[arg(long, value_name = "SIZE", value_parser = size, help_heading = "Containers and pods")]
    pub memory: Option<Bytes>,
    /// Processors that each container may use, like 2 or 0.5
    #[arg(long, value_name = "N", value_parser = processors, help_heading = "Containers and pods")]
    pub cpus: Option<u32>,
    /// The cluster's API [else: the cluster that the service runs in]
    #[arg(long, value_name = "URL", help_heading = "Containers and pods")]
    pub cluster: Option<String>,
    /// Certificates of those who certify the cluster's API (PEM)
    #[arg(long, value_name = "FILE", help_heading = "Containers and pods")]
    pub cluster_ca: Option<PathBuf>,
    /// Where in the cluster the pods are [default: default]
    #[arg(long, value_name = "NAME", help_heading = "Containers and pods")]
    pub namespace: Option<String>,
    /// Whom the pods act for
    #[arg(long, value_name = "NAME", help_heading = "Containers and pods")]
    pub service_account: Option<String>,
    /// A pod (YAML) whose first container becomes the worker
    #[arg(long, value_name = "FILE", help_heading = "Containers and pods")]
    pub template: Option<PathBuf>,
    /// A file (TOML) that says how jobs are started, looked at and ended: see docs/where-runs-execute.md
    #[arg(long, value_name = "FILE", help_heading = "Jobs of a CI server")]
    pub describe: Option<PathBuf>,
    /// A file with the token of the CI server or of the cluster's API, or - for standard input
    #[arg(long, value_name = "FILE")]
    pub secret_file: Option<PathBuf>,
    /// Change the pool of that name
    #[arg(long)]
    pub replace: bool,
}

#[derive(Debug, Args)]
pub struct RemovePool {
    pub name: String,
    /// Do not wait for its machines: where they run nobody answers any more
    #[arg(long)]
    pub forget: bool,
}

#[derive(Debug, Args)]
pub struct ShowPool {
    pub name: String,
    /// Print the command that a job of the CI server carries out
    #[arg(long)]
    pub job: bool,
}
