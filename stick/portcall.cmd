@echo off
rem Starts portcall.pyz, which lies beside this file, with the Python that is installed here.
setlocal
set "python="
for %%P in (python.exe py.exe) do if not "%%~$PATH:P"=="" set "python=%%P"
if not defined python (
  echo portcall: Python 3.11 or newer is needed, and none is in the PATH of this window 1>&2
  exit /b 3
)
%python% "%~dp0portcall.pyz" %*
exit /b %errorlevel%
