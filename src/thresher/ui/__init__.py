"""The window: Qt Widgets that show what an engine reports, and nothing that decides. The only user of Qt."""
