//! What pictures can be made of before anybody asks. Nothing here is shown to anybody, so that it
//! takes no pass; whoever asks for a picture later needs one.

use super::Catalogue;
use super::browse::PAGE;
use super::container::Container;
use super::id::{Fixed, NodeId};
use super::object::{ItemView, Located, Node};
use crate::Kind;
use crate::ids::FileId;

impl Catalogue {
    /// The items of a kind that can be pictured, the newest first.
    pub fn newest_pictured(&self, kind: Kind, most: usize) -> Vec<FileId> {
        let newest = self.container_of(Fixed::newest(kind).node());
        self.pictured(newest, most)
    }

    /// What can be pictured in the directory of a file, in the order in which it is listed, with
    /// what follows the file first.
    pub fn pictured_beside(&self, file: FileId) -> Vec<FileId> {
        let Some(record) = self.record(file.0) else { return Vec::new() };
        let around = self.container_of(NodeId::directory(record.directory()));
        let mut beside = self.pictured(around, PAGE as usize);
        let at = beside.iter().position(|other| *other == file).unwrap_or(0);
        beside.rotate_left(at);
        beside
    }

    fn pictured(&self, container: Option<(u32, &Container)>, most: usize) -> Vec<FileId> {
        let Some((_, container)) = container else { return Vec::new() };
        let has = |serial: &u32| self.record(*serial).is_some_and(|r| r.is_pictured());
        container.items.iter().filter(has).take(most).map(FileId).collect()
    }

    /// A file as it stands in its directory, and where it is.
    pub fn to_picture(&self, file: FileId) -> Option<(ItemView, Located)> {
        let directory = NodeId::directory(self.record(file.0)?.directory());
        let (at, _) = self.container_of(directory)?;
        match self.item_object(file.0, at, 0)?.node {
            Node::Item(item) => Some((*item, self.located(file.0)?)),
            Node::Container { .. } => None,
        }
    }
}
