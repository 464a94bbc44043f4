//! Which files are in a directory is asked of ranges of the table, and not of an index of
//! every file: files come directory by directory, and a scan records them by the ten thousand.

use sea_orm_migration::prelude::*;

pub(super) struct Migration;

impl MigrationName for Migration {
    fn name(&self) -> &str {
        "m0005_files"
    }
}

const CHANGES: &str = "
drop index file_container;
create index file_container on file using brin (container_id) with (pages_per_range = 32);
";

#[async_trait::async_trait]
impl MigrationTrait for Migration {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared(CHANGES).await?;
        Ok(())
    }

    async fn down(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        let undo = "drop index file_container; create index file_container on file (container_id)";
        manager.get_connection().execute_unprepared(undo).await?;
        Ok(())
    }
}
