"""What people and programs read: layouts, surveys and findings as text for a terminal and as JSON."""
