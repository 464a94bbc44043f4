//! Facts as plain text, files without a check of their directory, and links that are followed.

use sea_orm_migration::prelude::*;

pub(super) struct Migration;

impl MigrationName for Migration {
    fn name(&self) -> &str {
        "m0003_plain_facts"
    }
}

// Nothing in PostgreSQL looks into facts, so it need not take them apart on the way in and put
// them together on the way out. A file's directory is checked by the scan, which is the only
// one to write both; removing a directory removes its files in the same commit.
const CHANGES: &str = "
alter table file alter column facts type text using facts::text;
alter table file drop constraint file_container_id_fkey;
alter table folder add column links jsonb not null default '{}';
";

#[async_trait::async_trait]
impl MigrationTrait for Migration {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared(CHANGES).await?;
        Ok(())
    }

    async fn down(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        let undo = "delete from file where container_id not in (select id from container); \
                    alter table file alter column facts type jsonb using facts::jsonb; \
                    alter table file add foreign key (container_id) references container \
                    on delete cascade; \
                    alter table folder drop column links";
        manager.get_connection().execute_unprepared(undo).await?;
        Ok(())
    }
}
