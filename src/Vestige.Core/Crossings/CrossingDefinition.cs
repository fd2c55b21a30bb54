namespace Vestige.Core.Crossings;

/// <summary>What a person says about a crossing: the same document on the page, in the API and in files.</summary>
/// <param name="Name">A slug, unique among crossings.</param>
/// <param name="Purpose">Only <c>copy</c> so far.</param>
/// <param name="Source">The name of a connection.</param>
/// <param name="Target">The name of another connection.</param>
/// <param name="Tables">Which tables cross.</param>
/// <param name="Start">How it begins; null for the defaults.</param>
public sealed record CrossingDefinition(
    string Name,
    string Purpose,
    string Source,
    string Target,
    TableRules Tables,
    StartOptions? Start = null)
{
    public const string Copy = "copy";

    public ExistingRows Existing => Start?.Existing ?? ExistingRows.Refuse;
}
