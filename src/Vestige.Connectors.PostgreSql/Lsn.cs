using System.Globalization;
using Vestige.Core.Positions;

namespace Vestige.Connectors.PostgreSql;

/// <summary>
/// Positions in the server's own notation: two hexadecimal numbers, the upper and the lower 32 bits of a byte offset in the
/// log (PostgreSQL manual, type pg_lsn).
/// </summary>
public static class Lsn
{
    public static string Format(LogPosition position) =>
        string.Create(CultureInfo.InvariantCulture, $"{position.Place >> 32:X}/{position.Place & 0xFFFF_FFFF:X}");

    /// <summary>Null when the text is not a position.</summary>
    public static LogPosition? Parse(string text)
    {
        ArgumentNullException.ThrowIfNull(text);
        var slash = text.IndexOf('/', StringComparison.Ordinal);
        return slash > 0
            && uint.TryParse(text.AsSpan(0, slash), NumberStyles.AllowHexSpecifier, CultureInfo.InvariantCulture, out var upper)
            && uint.TryParse(text.AsSpan(slash + 1), NumberStyles.AllowHexSpecifier, CultureInfo.InvariantCulture, out var lower)
                ? new LogPosition(((ulong)upper << 32) | lower)
                : null;
    }

    /// <summary>A position the server gave.</summary>
    internal static LogPosition Of(string text) => Parse(text) ?? throw new InvalidDataException($"The server gave '{text}' as a position.");
}
