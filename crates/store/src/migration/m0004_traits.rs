//! What a device needs done differently: as a person set it, and the rules that it matched.

use sea_orm_migration::prelude::*;

pub(super) struct Migration;

impl MigrationName for Migration {
    fn name(&self) -> &str {
        "m0004_traits"
    }
}

const CHANGES: &str = "
alter table device add column traits jsonb not null default '{}';
alter table device add column rules jsonb not null default '[]';
";

#[async_trait::async_trait]
impl MigrationTrait for Migration {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared(CHANGES).await?;
        Ok(())
    }

    async fn down(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        let undo = "alter table device drop column traits, drop column rules";
        manager.get_connection().execute_unprepared(undo).await?;
        Ok(())
    }
}
