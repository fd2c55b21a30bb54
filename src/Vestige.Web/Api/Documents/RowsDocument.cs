namespace Vestige.Web.Api.Documents;

/// <summary>Some rows as text; null stands for NULL.</summary>
public sealed record RowsDocument(IReadOnlyList<string> Columns, IReadOnlyList<IReadOnlyList<string?>> Rows);
