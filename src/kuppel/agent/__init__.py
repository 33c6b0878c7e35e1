"""The vantage-point process: schedule, run, spool, deliver."""
