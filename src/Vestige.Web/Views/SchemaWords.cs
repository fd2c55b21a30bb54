using Vestige.Core.Positions;
using Vestige.Core.SchemaVersions;
using Vestige.Core.Text;
using Vestige.Engine.SchemaVersions;

namespace Vestige.Web.Views;

/// <summary>Versions of tables in words.</summary>
public static class SchemaWords
{
    private const int ChangesShown = 4;

    /// <summary>What is different, or where nothing is, what was done.</summary>
    public static string Changes(SchemaVersion version)
    {
        ArgumentNullException.ThrowIfNull(version);
        return version.Changes.Count > 0
            ? Figures.Listed([.. version.Changes.Select(change => change.Words)], ChangesShown) + "."
            : $"{char.ToUpperInvariant(version.What[0])}{version.What[1..]}.";
    }

    /// <summary>Where it lies in the log.</summary>
    /// <param name="version">The version.</param>
    /// <param name="format">A position as the source writes it.</param>
    public static string Position(SchemaVersion version, Func<LogPosition, string> format)
    {
        ArgumentNullException.ThrowIfNull(version);
        ArgumentNullException.ThrowIfNull(format);
        return version.NotBefore is { } notBefore && notBefore != version.From
            ? $"{format(notBefore)} to {format(version.From)}"
            : format(version.From);
    }

    /// <summary>What the certainty means.</summary>
    public static string Known(VersionCertainty certainty) =>
        certainty switch
        {
            VersionCertainty.Exact => "Exact: the log or a snapshot shows it at this position.",
            VersionCertainty.Derived =>
                "Derived: Vestige saw the table before and after, and one change lies between. The position lies between the two given.",
            _ => "Undecided: several changes may lie between the two positions, in any order.",
        };

    /// <summary>Where a crossing's treatment names the changed columns; empty where it does not.</summary>
    public static string Uses(AffectedCrossing affected)
    {
        ArgumentNullException.ThrowIfNull(affected);
        return string.Join("; ", affected.Named.Select(named => $"{named.Column}: {string.Join(", ", named.Uses)}"));
    }
}
