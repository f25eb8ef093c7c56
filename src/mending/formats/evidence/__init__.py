"""What crashes leave behind: dumps, kernel logs, event logs, journals, reports of automatic
repairs.
"""
