/** The head of a column of buttons, for those who hear the page. */
export const actionsHead = <span className="unseen">Actions</span>;
