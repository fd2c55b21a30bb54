using System.Globalization;
using Vestige.Core.Positions;

namespace Vestige.Connectors.PostgreSql;

/// <summary>
/// Positions in the server's own notation: two hexadecimal numbers, the upper and the lower 32 bits of a byte offset in the
/// log (PostgreSQL manual, type pg_lsn).
/// </summary>
public static class Lsn
{
    private const ulong PageBytes = 8192;
    private const ulong ShortHeader = 24;
    private const ulong LongHeader = 40;

    public static string Format(LogPosition position) =>
        string.Create(CultureInfo.InvariantCulture, $"{position.Offset >> 32:X}/{position.Offset & 0xFFFF_FFFF:X}");

    /// <summary>Null when the text is not a position.</summary>
    public static LogPosition? Parse(string text)
    {
        ArgumentNullException.ThrowIfNull(text);
        var slash = text.IndexOf('/', StringComparison.Ordinal);
        return
            slash > 0
            && uint.TryParse(text.AsSpan(0, slash), NumberStyles.AllowHexSpecifier, CultureInfo.InvariantCulture, out var upper)
            && uint.TryParse(text.AsSpan(slash + 1), NumberStyles.AllowHexSpecifier, CultureInfo.InvariantCulture, out var lower)
            ? new LogPosition(((ulong)upper << 32) | lower)
            : null;
    }

    /// <summary>
    /// Where what was written ends, of a place at which the server writes on: at the begin of a page that is after the page's header,
    /// which nobody is ever told to have read (PostgreSQL source, access/xlog_internal.h: 24 bytes, 40 on the first page of a file).
    /// </summary>
    internal static LogPosition EndOf(LogPosition next) =>
        (next.Offset % PageBytes) is var within and (ShortHeader or LongHeader) ? next.At(next.Offset - within) : next;

    /// <summary>A position the server gave.</summary>
    internal static LogPosition Of(string text) =>
        Parse(text) ?? throw new InvalidDataException($"The server gave '{text}' as a position.");
}
