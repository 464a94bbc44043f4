//! Migrations in order. A released one is never changed; a new one is added.

use sea_orm_migration::prelude::*;

mod m0001_house;
mod m0002_content;
mod m0003_plain_facts;
mod m0004_traits;
mod m0005_files;
mod m0006_scans;
mod m0007_hardening;
mod m0008_sightings;
mod m0009_reasons;
mod m0010_found;
mod m0011_walkthroughs;
mod m0012_links;

pub(crate) struct Migrator;

#[async_trait::async_trait]
impl MigratorTrait for Migrator {
    fn migrations() -> Vec<Box<dyn MigrationTrait>> {
        vec![
            Box::new(m0001_house::Migration),
            Box::new(m0002_content::Migration),
            Box::new(m0003_plain_facts::Migration),
            Box::new(m0004_traits::Migration),
            Box::new(m0005_files::Migration),
            Box::new(m0006_scans::Migration),
            Box::new(m0007_hardening::Migration),
            Box::new(m0008_sightings::Migration),
            Box::new(m0009_reasons::Migration),
            Box::new(m0010_found::Migration),
            Box::new(m0011_walkthroughs::Migration),
            Box::new(m0012_links::Migration),
        ]
    }
}
