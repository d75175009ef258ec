"""The checks: functions from facts to findings. A room declares which facts go to which check."""
