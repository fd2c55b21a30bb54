namespace Vestige.Web.Api.Documents;

/// <summary>Measures over time; durations in seconds.</summary>
public sealed record MeasuresDocument(IReadOnlyList<MeasurePointDocument> Points, IReadOnlyList<DelaysDocument> Delays);
