/** The fields of everything with a place, which stand together. */
export const place = ['across', 'up', 'depth', 'turn', 'scale'];
/** Fields with a control of their own. */
export const tied = ['id', 'name', 'on', 'kind', 'zone', 'frame', 'carry_place', 'carry_turn', 'carry_size'];
