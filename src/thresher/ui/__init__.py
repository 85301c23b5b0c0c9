"""The window: Qt Widgets that show what an engine tells, and nothing that decides. The only user of Qt."""
