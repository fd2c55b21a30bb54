using Vestige.Engine.Ports;

namespace Vestige.Web.Pages.Crossings;

/// <summary>A table in the list of those to choose from.</summary>
/// <param name="Table">The table.</param>
/// <param name="Taken">Whether it is taken.</param>
/// <param name="Crosses">Whether it can cross as it would be applied.</param>
/// <param name="Rule">The line that took or left it; null when none did.</param>
public sealed record ListedTable(TableDescription Table, bool Taken, bool Crosses, string? Rule);
