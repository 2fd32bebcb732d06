//! Everything on one machine: MariaDB, encoder and service as children on loopback, and the demo
//! that uses them. The tests start their MariaDB from here too.

pub mod child;
pub mod demo;
pub mod mariadb;
pub mod scratch;
