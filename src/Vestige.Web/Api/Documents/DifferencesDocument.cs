namespace Vestige.Web.Api.Documents;

/// <summary>Rows of one table that differ.</summary>
public sealed record DifferencesDocument(string Table, int Total, bool More, IReadOnlyList<DifferenceDocument> Rows);
