using Vestige.Core.Crossings;

namespace Vestige.Web.Pages.Connections;

/// <summary>A new connection that was refused, without its secret.</summary>
/// <param name="Kind">Its kind.</param>
/// <param name="Name">Its name as typed.</param>
/// <param name="Settings">What was typed, by field.</param>
/// <param name="Problems">Why it was refused; at least one.</param>
internal sealed record SentConnection(
    string Kind,
    string Name,
    IReadOnlyDictionary<string, string> Settings,
    IReadOnlyList<DefinitionProblem> Problems
);
