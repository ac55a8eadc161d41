"""The Qt application: window, plan, sections, facts, tools. The only place that imports Qt."""
