"""Survey lines: existing lines, with levels or without."""

from humble_loop.kinds.survey_line.kind import SurveyLines
from humble_loop.kinds.survey_line.lines import SurveyedLine
from humble_loop.kinds.survey_line.model import SurveyLine

__all__ = ["SurveyLine", "SurveyLines", "SurveyedLine"]
