//! Which drive each part of a folder is on, by its path below the folder: what is on a drive that
//! is not mounted is away, and not gone. And files go that were recorded while their folder was
//! being removed, which no longer happens.
//!
//! Of devices: what they last asked for in vain, and whether a person decided on them. Of sessions:
//! when they began, and whether a program has them.

use sea_orm_migration::prelude::*;

pub(super) struct Migration;

impl MigrationName for Migration {
    fn name(&self) -> &str {
        "m0007_hardening"
    }
}

#[async_trait::async_trait]
impl MigrationTrait for Migration {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        let add = "alter table folder add column drives jsonb; \
                   delete from file where not exists \
                   (select 1 from container where container.id = file.container_id); \
                   alter table device add column denied_ms bigint; \
                   alter table device add column denied text; \
                   alter table session add column began_ms bigint not null default 0; \
                   alter table session add column program boolean not null default false; \
                   alter table device add column decided boolean not null default false; \
                   update device set decided = true where exists \
                   (select 1 from decision where decision.device_id = device.id)";
        manager.get_connection().execute_unprepared(add).await?;
        Ok(())
    }

    async fn down(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        let undo = "alter table folder drop column drives; alter table device \
                    drop column denied_ms, drop column denied, drop column decided; \
                    alter table session drop column began_ms, drop column program";
        manager.get_connection().execute_unprepared(undo).await?;
        Ok(())
    }
}
