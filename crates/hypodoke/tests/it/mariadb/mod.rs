//! A MariaDB server as it is met.

mod lines;
mod others_tables;
mod private;
mod tables;
mod values;

use hypodoke_testkit::{Mariadb, MariadbDatabase, Workshop};

use crate::staging::{Kind, Staging};
use crate::workshop;

fn database() -> MariadbDatabase {
    Mariadb::shared().database()
}

/// A workshop with one feed into a table that somebody has made, or into none.
fn begun(sql: &str, feed: &str) -> (Workshop, Staging) {
    let (shop, staging) = (workshop(), Staging::new(Kind::Mysql));
    if !sql.is_empty() {
        staging.run(&shop, sql);
    }
    configure(&shop, &staging, feed);
    (shop, staging)
}

fn configure(shop: &Workshop, staging: &Staging, feed: &str) {
    let url = staging.url();
    let text = format!(
        "[staging]\nurl = \"{url}\"\n[place.quay]\npath = \"in\"\n[feed.f]\nplace = \"quay\"\nfiles = \"f_*.csv\"\ntable = \"f\"\n{feed}\n"
    );
    shop.write("hypodoke.toml", text);
}
