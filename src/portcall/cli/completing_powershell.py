"""Completion for PowerShell, which Click does not serve.

PowerShell tells a script block the words of the line; it sets them for the program as the other
shells do, each on a line of its own. One candidate a line comes back: the word, a tabulator, and
what it is.
"""

from __future__ import annotations

import os

from click.shell_completion import CompletionItem, ShellComplete, add_completion_class

_SCRIPT = """\
Register-ArgumentCompleter -Native -CommandName @('%(prog_name)s', '%(prog_name)s.exe', \
'%(prog_name)s.cmd') -ScriptBlock {
    param($word, $line, $at)
    $typed = @($line.CommandElements | Where-Object { $_.Extent.EndOffset -lt $at })
    $texts = $typed | ForEach-Object {
        if ($null -ne $_.Value) { [string]$_.Value } else { $_.Extent.Text }
    }
    $before = [Console]::OutputEncoding
    $set = @{
        '%(complete_var)s' = 'powershell_complete'
        'COMP_WORDS' = $texts -join "`n"
        'COMP_CWORD' = $word.Trim("'", '"')
        'PYTHONIOENCODING' = 'utf-8'
    }
    try {
        [Console]::OutputEncoding = [System.Text.Encoding]::UTF8
        foreach ($name in $set.Keys) { Set-Item "Env:$name" $set[$name] }
        & $line.CommandElements[0].Extent.Text 2>$null | ForEach-Object {
            $value, $told = $_ -split "`t", 2
            if (-not $told) { $told = $value }
            $text = "'" + $value + "'"
            if ($value -match '^[\\w@%%+=:,./\\\\-]+$') { $text = $value }
            [System.Management.Automation.CompletionResult]::new(
                $text, $value, 'ParameterValue', $told)
        }
    } finally {
        foreach ($name in $set.Keys) { Remove-Item "Env:$name" -ErrorAction SilentlyContinue }
        [Console]::OutputEncoding = $before
    }
}
"""


class PowerShellComplete(ShellComplete):
    """The script, what it asks, and the form of an answer."""

    name = "powershell"
    source_template = _SCRIPT

    def get_completion_args(self) -> tuple[list[str], str]:
        """The words before the one that is to be completed, and what of that is typed."""
        return os.environ["COMP_WORDS"].split("\n")[1:], os.environ["COMP_CWORD"]

    def format_completion(self, item: CompletionItem) -> str:
        """A candidate on a line; nobody's name has a tabulator in it."""
        return f"{item.value}\t{item.help or ''}"


add_completion_class(PowerShellComplete)
