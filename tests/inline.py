"""An executor without processes."""

from concurrent.futures import Future


class Inline:
    """An executor that works at once in this process: the pipeline asks for no more."""

    def submit(self, function, *arguments):
        future = Future()
        future.set_result(function(*arguments))
        return future
