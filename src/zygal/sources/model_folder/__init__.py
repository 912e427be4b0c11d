"""Model folders of public collections (config.json, weights, preprocessing): read without their libraries, and built
by them where they are installed."""

from zygal.sources.model_folder.folder import ModelFolder, folder_at, is_model_folder, read_model_folder

__all__ = ["ModelFolder", "folder_at", "is_model_folder", "read_model_folder"]
