"""A receipt as a page, a picture and a summary, beside what the run itself writes."""

from tidymerge.model.receipt import Receipt, Touch
from tidymerge.run.outputs import Outputs

ROWS_ON_PAGE = 1000  # changed records; more would make a page slow to open


def write_views(receipt: Receipt, touched: list[Touch] | None, outputs: Outputs) -> None:
    """Write the receipt as a page, a chart and a summary, where asked for. `touched` is looked up in the log if None.

    Raises BadOption where a file can't be written.
    """
    if outputs.page is not None:
        from tidymerge.reports.page import write_page
        from tidymerge.run.past import touched_of

        found = touched_of(receipt, ROWS_ON_PAGE) if touched is None else touched
        write_page(receipt, found, outputs.page)
    if outputs.summary is not None:
        from tidymerge.reports.summary import write_summary

        write_summary(receipt, outputs.summary)
    if outputs.chart is not None:
        from tidymerge.reports.charts import receipt_chart

        receipt_chart(receipt, outputs.chart)
