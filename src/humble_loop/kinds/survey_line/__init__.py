"""Survey lines: existing lines, with levels or without."""

from humble_loop.kinds.survey_line.kind import SurveyedLine, SurveyLines
from humble_loop.kinds.survey_line.model import SurveyLine

__all__ = ["SurveyLine", "SurveyLines", "SurveyedLine"]
